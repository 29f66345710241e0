"""What lies on disk: the configuration file."""
