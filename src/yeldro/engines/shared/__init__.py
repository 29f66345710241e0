"""What the engines have in common."""
