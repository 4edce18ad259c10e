"""VNC as a service: TigerVNC's servers and x11vnc on Linux guests."""
