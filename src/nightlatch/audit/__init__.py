"""The two differences and the checks of hygiene, as findings. Pure."""
