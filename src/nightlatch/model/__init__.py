"""The values that all reasoning shares."""
