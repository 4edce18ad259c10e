"""SSH, as OpenSSH's sshd serves it."""
