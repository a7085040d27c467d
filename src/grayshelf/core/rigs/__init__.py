"""What is known of rigs: their trains, their cameras, their house rules, and what headers propose."""
