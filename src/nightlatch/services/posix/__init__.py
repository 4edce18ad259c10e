"""What several services of one system decide by: PAM's stacks, and who may become root."""
