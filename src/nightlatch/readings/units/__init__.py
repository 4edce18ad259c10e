"""The units of a guest's service manager: their files, their states, the sockets and daemons that come of them."""
