"""What lies on disk: yeldro.toml, cleanup files, archives, run records, logs."""
