"""Parts of a POSIX system that several services depend on: PAM's stacks, and who may become root."""
