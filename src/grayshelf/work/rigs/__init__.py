"""What is known of a rig from its sheets, its frames, the Bench and its devices, and what a change of rules would do."""
