"""What was read from a guest: raw files with modes and owners, secrets already reduced."""
