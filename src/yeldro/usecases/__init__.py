"""What each command does: the only place where engines, core and store meet."""
