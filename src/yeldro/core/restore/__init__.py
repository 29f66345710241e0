"""Taking a run back."""
