"""The packet filters of the station's guests in folders: each is kept by the manager that somebody set up there once. Two are as
the grants want them, one lets in too many, one keeps a part of the bench out."""

from __future__ import annotations

STARTED = "/etc/systemd/system"
NFTABLES = """\
#!/usr/sbin/nft -f
flush ruleset

table inet station {
    set desks {
        type ipv4_addr; flags interval
        elements = { 192.168.40.0/24, 192.168.56.109 }
    }
    chain input {
        type filter hook input priority filter; policy drop;
        ct state established,related accept
        iif "lo" accept
        meta l4proto { icmp, ipv6-icmp } accept
        tcp dport 22 ip saddr @desks accept
        tcp dport 22 ip6 saddr 2001:db8:40::/64 accept
    }
}
"""
_BEFORE = """\
*filter
:ufw{six}-before-input - [0:0]
-A ufw{six}-before-input -i lo -j ACCEPT
-A ufw{six}-before-input -m conntrack --ctstate RELATED,ESTABLISHED -j ACCEPT
-A ufw{six}-before-input -p {icmp} -j ACCEPT
COMMIT
"""
_USER = """\
*filter
:ufw{six}-user-input - [0:0]
### RULES ###
{rules}
### END RULES ###
COMMIT
"""
_RULE = """\

### tuple ### allow tcp 22 {any} any {source} in
-A ufw{six}-user-input -p tcp --dport 22 -s {source} -j ACCEPT"""
_SOURCES = {"": ("192.168.40.0/24", "203.0.113.20", "192.168.56.109"), "6": ("2001:db8:40::/64",)}


def _ufw() -> dict[str, str]:
    out = {
        "/etc/ufw/ufw.conf": "ENABLED=yes\nLOGLEVEL=low\n",
        "/etc/default/ufw": 'IPV6=yes\nDEFAULT_INPUT_POLICY="DROP"\nDEFAULT_FORWARD_POLICY="DROP"\n',
        f"{STARTED}/multi-user.target.wants/ufw.service": "",
    }
    for six, sources in _SOURCES.items():
        words = {"six": six, "icmp": "ipv6-icmp" if six else "icmp", "any": "::/0" if six else "0.0.0.0/0"}
        rules = "\n".join(_RULE.format(source=source, **words) for source in sources)
        out[f"/etc/ufw/before{six}.rules"] = _BEFORE.format(**words)
        out[f"/etc/ufw/user{six}.rules"] = _USER.format(rules=rules, **words)
        out[f"/etc/ufw/after{six}.rules"] = "*filter\nCOMMIT\n"
    return out


_SAVED = """\
# made by hand when the harbour's guests had the upper half of the bench
*filter
:INPUT DROP [0:0]
:FORWARD DROP [0:0]
:OUTPUT ACCEPT [0:0]
-A INPUT -i lo -j ACCEPT
-A INPUT -m conntrack --ctstate RELATED,ESTABLISHED -j ACCEPT
-A INPUT -p {icmp} -j ACCEPT
{block}-A INPUT -p tcp -m tcp --dport 22 -j ACCEPT
COMMIT
"""
_ZONE = """\
<?xml version="1.0" encoding="utf-8"?>
<zone>
  <short>Public</short>
  <service name="ssh"/>
</zone>
"""
FILTERS: dict[str, dict[str, str]] = {
    # keeps out callers who are granted
    "chartbox": {
        "/etc/iptables/rules.v4": _SAVED.format(icmp="icmp", block="-A INPUT -s 192.168.40.128/25 -j REJECT\n"),
        "/etc/iptables/rules.v6": _SAVED.format(icmp="ipv6-icmp", block=""),
        f"{STARTED}/multi-user.target.wants/netfilter-persistent.service": "",
    },
    # lets everybody call, and one key there has no limit of its own
    "gate": {
        "/etc/firewalld/firewalld.conf": "DefaultZone=public\n# the router looks at that\nIPv6_rpfilter=no\n",
        "/etc/firewalld/zones/public.xml": _ZONE,
        "/usr/lib/firewalld/services/ssh.xml": '<service>\n  <port protocol="tcp" port="22"/>\n</service>\n',
        f"{STARTED}/multi-user.target.wants/firewalld.service": "",
    },
    "gauge": {"/etc/nftables.conf": NFTABLES, f"{STARTED}/sysinit.target.wants/nftables.service": ""},
    "plotter": _ufw(),
}
