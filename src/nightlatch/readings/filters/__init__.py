"""The packet filters of a guest: the rules of every manager and front end in one form, stored and loaded."""
