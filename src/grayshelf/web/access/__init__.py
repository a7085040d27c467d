"""Who from this network may ask: an access code, sessions, and the page that asks for the code."""
