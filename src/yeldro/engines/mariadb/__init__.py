"""MariaDB."""
