"""What differs by kind of system."""
