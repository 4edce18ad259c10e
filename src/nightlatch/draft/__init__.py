"""From findings to the fewest steps that close them, proved by reasoning again. Pure."""
