"""Services: all that is peculiar to one of them, each behind one interface. Pure; time is a parameter."""
