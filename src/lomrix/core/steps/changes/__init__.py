"""Changes: what differs between two deliveries of one file."""
