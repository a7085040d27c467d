"""Filing: frames put in an order of one's own."""
