"""The words of iptables that its rules are read by: targets, options, what belongs to which match (iptables-extensions(8))."""

from __future__ import annotations

from nightlatch.model.rules import RuleAction
from nightlatch.net.addresses import ALL_V4, ALL_V6

FAMILY = {"ip": ALL_V4, "ip6": ALL_V6}
VERDICTS = {
    "ACCEPT": RuleAction.ACCEPT,
    "DROP": RuleAction.DROP,
    "REJECT": RuleAction.REJECT,
    "RETURN": RuleAction.RETURN,
    "DNAT": RuleAction.REWRITE,
    "REDIRECT": RuleAction.REWRITE,
    "NETMAP": RuleAction.REWRITE,
    "QUEUE": RuleAction.UNKNOWN,
    "NFQUEUE": RuleAction.UNKNOWN,
    "SYNPROXY": RuleAction.UNKNOWN,
    "TPROXY": RuleAction.UNKNOWN,
    "NOTRACK": RuleAction.UNKNOWN,
    "TARPIT": RuleAction.UNKNOWN,
    "CLUSTERIP": RuleAction.UNKNOWN,
}
GOING_ON = frozenset(
    """
    AUDIT CHECKSUM CLASSIFY CONNMARK CONNSECMARK CT DSCP ECN HL HMARK LED LOG MARK MASQUERADE NFLOG RATEEST
    SECMARK SET SNAT TCPMSS TCPOPTSTRIP TEE TOS TRACE TTL ULOG
""".split()
)
LONG = {
    "-s": "--source",
    "--src": "--source",
    "-d": "--destination",
    "--dst": "--destination",
    "-p": "--protocol",
    "--proto": "--protocol",
    "-i": "--in-interface",
    "-o": "--out-interface",
    "-m": "--match",
    "-j": "--jump",
    "-g": "--goto",
    "-f": "--fragment",
    "--dport": "--destination-port",
    "--sport": "--source-port",
    "--destination-ports": "--dports",
    "--source-ports": "--sports",
}
WITH_PORTS = frozenset(("tcp", "udp", "sctp", "dccp", "udplite"))
FLAGS = ("FIN", "SYN", "RST", "ACK", "URG", "PSH")
TARGETS = GOING_ON | frozenset(VERDICTS)
EXTENSIONS = TARGETS - {"ACCEPT", "DROP", "RETURN", "QUEUE", "TRACE", "NOTRACK"}
# Options that say more of a match without changing whether a first packet meets it.
QUIET = frozenset(
    """
    --comment --connlimit-daddr --connlimit-mask --connlimit-saddr --connlimit-upto --hashlimit
    --hashlimit-burst --hashlimit-dstmask --hashlimit-htable-expire --hashlimit-htable-gcinterval
    --hashlimit-htable-max --hashlimit-htable-size --hashlimit-mode --hashlimit-name --hashlimit-rate-interval
    --hashlimit-rate-match --hashlimit-srcmask --hashlimit-upto --hitcount --icmp-type --icmpv6-type --limit
    --limit-burst --mask --name --nowildcard --quota --rdest --reap --return-nomatch --rsource --rttl --seconds
    --set --set-counters -c
""".split()
)
# Matches that are known to be there and are not followed, and such options of those that are.
ODD_MATCHES = frozenset(
    """
    ah bpf cgroup cluster connbytes connlabel connmark cpu dccp devgroup dscp dst ecn esp eui64 frag hbh helper
    hl ipv6header ipvs length mac mark mh nfacct osf owner physdev policy rateest realm rpfilter rt sctp socket
    srh statistic string tcpmss time tos ttl u32
""".split()
)
# Matches for headers that a plain first packet of TCP or UDP does not have.
HEADERS = frozenset(("rt", "frag", "hbh", "dst", "mh", "ah", "esp"))
ODD = frozenset(
    """
    --bytes-eq --bytes-gt --bytes-lt --ctdir --ctexpire --ctorigdst --ctorigdstport --ctorigsrc --ctorigsrcport
    --ctproto --ctrepldst --ctrepldstport --ctreplsrc --ctreplsrcport --ctstatus --limit-iface-in
    --limit-iface-out --packets-eq --packets-gt --packets-lt --tcp-option --update-counters --update-subcounters
""".split()
)
# The match that must be named (-m) before its options.
OF_MATCH = {
    "--ctstate": ("conntrack",),
    "--state": ("state",),
    "--dports": ("multiport",),
    "--sports": ("multiport",),
    "--ports": ("multiport",),
    "--src-range": ("iprange",),
    "--dst-range": ("iprange",),
    "--src-type": ("addrtype",),
    "--dst-type": ("addrtype",),
    "--rcheck": ("recent",),
    "--update": ("recent",),
    "--remove": ("recent",),
    "--set": ("recent",),
    "--match-set": ("set",),
    "--pkt-type": ("pkttype",),
    "--comment": ("comment",),
    "--limit": ("limit",),
    "--limit-burst": ("limit",),
    "--connlimit-above": ("connlimit",),
    "--connlimit-upto": ("connlimit",),
    "--hashlimit-above": ("hashlimit",),
    "--hashlimit-upto": ("hashlimit",),
    "--quota": ("quota",),
}
NEVER = frozenset(
    ("--fragment", "--hashlimit-above", "--remove", "--connlimit-above")
)  # a caller who has done nothing yet is not above

# How many values an option has, where it is not one.
VALUES = {"--fragment": 0, "--tcp-flags": 2, "--match-set": 2, "--syn": 0, "--rcheck": 0, "--update": 0}
STATES = frozenset(("INVALID", "NEW", "ESTABLISHED", "RELATED", "UNTRACKED", "SNAT", "DNAT"))
KINDS = frozenset(
    """
    UNSPEC UNICAST LOCAL BROADCAST ANYCAST MULTICAST BLACKHOLE UNREACHABLE PROHIBIT THROW NAT XRESOLVE
""".split()
)
PROTOCOLS = frozenset(
    """
    tcp udp udplite icmp icmpv6 esp ah sctp dccp gre igmp ipip ospf vrrp l2tp all 0
""".split()
)
ANSWERS = {
    "ip": tuple(
        """
    icmp-net-unreachable icmp-host-unreachable icmp-port-unreachable icmp-proto-unreachable icmp-net-prohibited
    icmp-host-prohibited icmp-admin-prohibited tcp-reset
""".split()
    ),
    "ip6": tuple(
        """
    icmp6-no-route no-route icmp6-adm-prohibited adm-prohibited icmp6-addr-unreachable addr-unreach
    icmp6-port-unreachable port-unreach tcp-reset
""".split()
    ),
}
# Matches that iptables-restore refuses without an option of their own (measured: 1.8.9), and those that hold for some packets
# only where they have none.
ASKING = frozenset(
    """
    addrtype bpf cluster comment connbytes connlabel connlimit connmark conntrack cpu devgroup dscp ecn
    hashlimit helper hl icmp icmp6 iprange ipv6header length mac mark multiport nfacct osf owner physdev pkttype
    policy quota realm recent set state statistic string tcpmss tos ttl u32
""".split()
)
BY_THEMSELVES = frozenset(("cgroup", "eui64", "ipvs", "rateest", "rpfilter", "socket", "srh"))
# Options that are no match's own.
GENERAL = frozenset(
    """
    --source --destination --protocol --in-interface --out-interface --match --jump --goto --fragment
    --destination-port --source-port --tcp-flags --syn --tcp-option --set-counters -c
""".split()
)
RATES = ("--limit", "--hashlimit-upto", "--hashlimit-above", "--hashlimit")
MATCHES = (
    ODD_MATCHES
    | HEADERS
    | frozenset(name for names in OF_MATCH.values() for name in names)
    | frozenset(("tcp", "udp", "udplite", "sctp", "dccp", "icmp", "icmp6", "icmpv6", "ipv6-icmp", "standard"))
)
