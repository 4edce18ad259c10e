"""Ways to a guest's files. Each offers single steps on real paths; resolving links is the collector's work."""
