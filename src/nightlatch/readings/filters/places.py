"""Where each manager of a packet filter keeps its rules, and the commands that list them."""

from __future__ import annotations

NFT_FILES = ("/etc/nftables.conf", "/etc/sysconfig/nftables.conf")
NFT_LISTED = "nft list ruleset"
IPTABLES_DEBIAN = (("/etc/iptables/rules.v4", "ip"), ("/etc/iptables/rules.v6", "ip6"))
IPTABLES_RPM = (("/etc/sysconfig/iptables", "ip"), ("/etc/sysconfig/ip6tables", "ip6"))
FIREWALLD = "/etc/firewalld/firewalld.conf"
UFW_SWITCH = "/etc/ufw/ufw.conf"
