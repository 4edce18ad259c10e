"""Readings in, answers out: routes, grants, access paths, the two differences, exposure. Pure; time is a parameter."""
