"""RDP: xrdp, its session manager, and the sessions that they start."""
