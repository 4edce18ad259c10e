"""Live guests without a hypervisor: namespaces, an overlay and systemd, for the tests and the demo. Needs root."""
