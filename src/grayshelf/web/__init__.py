"""The web: thin routes, schemas, errors, and the static front end."""
