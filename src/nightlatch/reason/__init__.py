"""Readings in, answers out: effective settings, logins, privilege, access paths. Pure; time is a parameter."""
