"""Random rule sets of nftables, and what they are tried with: addresses on both sides of every boundary, some ports."""

from __future__ import annotations

import random

PORTS = (22, 80, 2222)
SENT = 8022  # nobody listens there, and rules may send it to where somebody does
HERE4, HERE6 = "10.0.0.1", "2001:db8::1"
CALLERS4 = tuple(
    """
    10.0.0.2 10.1.0.0 10.1.0.5 10.1.0.6 10.1.255.255 10.2.0.1 10.2.7.9 10.3.0.255 10.200.0.1
""".split()
)
CALLERS6 = ("2001:db8::2", "2001:db8:0:1::5", "2001:db8:0:1::6", "2001:db8:0:2::1", "2001:db8:0:ffff::9")
SETS4 = (
    "10.1.0.0/16",
    "10.1.0.5",
    "10.1.0.5-10.1.0.9",
    "10.2.0.0/15",
    "{ 10.1.0.5, 10.2.0.0/16 }",
    "{ 10.0.0.0-10.1.0.5, 10.3.0.255 }",
    "$office",
    "@kept4",
)
SETS6 = ("2001:db8:0:1::/64", "2001:db8:0:1::5", "{ 2001:db8::2, 2001:db8:0:2::/64 }", "@kept6")
ENDS = ("accept", "drop", "reject", "reject with tcp reset", "return", "jump one", "goto two", "jump two")


def ruleset(seed: int) -> str:
    """One rule set, flushing whatever was there."""
    dice = random.Random(seed)
    lines = ["flush ruleset", "define office = { 10.1.0.0/17, 10.200.0.0/24 }", "define admin = 2222"]
    for number in range(dice.choice((1, 1, 2))):
        family = dice.choice(("inet", "inet", "inet", "ip", "ip6"))
        lines += _table(dice, family, f"t{number}")
    if dice.random() < 0.25:
        lines += _early(dice)
    if dice.random() < 0.3:
        lines += ["table inet sent {", "    chain to {", "        type nat hook prerouting priority dstnat;"]
        for _ in range(dice.randint(1, 3)):
            end = dice.choice(("redirect to :22", "redirect to :80", f"dnat ip to {HERE4}:2222", f"dnat ip6 to [{HERE6}]:22"))
            match = dice.choice(("tcp dport 8022", "ip saddr 10.1.0.0/16 tcp dport 8000-8100", "tcp dport { 80, 8022 }"))
            if not ("ip6" in end and "ip saddr" in match):
                lines.append(f"        {match} {end}")
        lines += ["    }", "}"]
    return "\n".join(lines) + "\n"


def _table(dice: random.Random, family: str, name: str) -> list[str]:
    out = [f"table {family} {name} {{"]
    if family != "ip6":
        out += [
            "    set kept4 {",
            "        type ipv4_addr; flags interval;",
            "        elements = { 10.1.0.0-10.1.0.5, 10.2.7.0/24 }",
            "    }",
        ]
    if family != "ip":
        out += ["    set kept6 { type ipv6_addr; flags interval; elements = { 2001:db8:0:1::6, 2001:db8:0:ffff::/64 }; }"]
    out += ["    set doors { type inet_service; elements = { 22, 80 } }"]
    if dice.random() < 0.4:
        out += _answers(dice, family)
    for chain in ("two", "one"):  # one may jump to two
        out += [f"    chain {chain} {{", *_rules(dice, family, chain), "    }"]
    hook = dice.choice(("input", "input", "input", "prerouting"))
    priority = dice.choice(("filter", "0", "filter + 10", "-150", "raw"))
    policy = dice.choice(("accept", "drop"))
    out += ["    chain base {", f"        type filter hook {hook} priority {priority}; policy {policy};"]
    if dice.random() < 0.7:
        out.append(
            dice.choice(
                (
                    "        ct state established,related accept",
                    "        ct state { established, related } accept",
                    "        ct state vmap { established : accept, related : accept, invalid : drop }",
                )
            )
        )
    elif dice.random() < 0.6:  # else what follows a first packet is asked about like that
        out.append("        ct state established accept")
    # Without these neither neighbours nor answers come through, and nothing at all would.
    out.append(
        "        meta l4proto { icmp, icmpv6 } accept"
        if family == "inet"
        else f"        {'ip protocol icmp' if family == 'ip' else 'icmpv6 type { 133, 134, 135, 136 }'} accept"
    )
    return [*out, *_rules(dice, family, "base"), "    }", "}"]


def _rules(dice: random.Random, family: str, chain: str) -> list[str]:
    out = []
    for _ in range(dice.randint(0, 5)):
        ends = [
            end
            for end in ENDS
            if not (chain == "two" and ("one" in end or "two" in end)) and not (chain == "one" and "one" in end)
        ]
        if dice.random() < 0.12:
            out.append(f"        {_vmap(dice, family, chain)}")
            continue
        parts = [_match(dice, family) for _ in range(dice.choice((0, 1, 1, 1, 2, 2, 3)))]
        parts += ["counter"] if dice.random() < 0.2 else []
        parts += ["limit rate 200/second burst 100 packets"] if dice.random() < 0.06 else []
        end = dice.choice(ends)
        if "tcp reset" in end and not any("tcp" in part for part in parts):
            parts.append("meta l4proto tcp")
        out.append(f"        {' '.join([*parts, end])}" + (' comment "a note"' if dice.random() < 0.2 else ""))
    return out


TURNED = {"saddr": "daddr", "daddr": "saddr", "dport": "sport", "iif": "oif", "iifname": "oifname"}


def _answers(dice: random.Random, family: str) -> list[str]:
    """A chain that the answers meet on their way out."""
    hook = dice.choice(("output", "output", "postrouting"))
    head = f"type filter hook {hook} priority {dice.choice(('filter', '-150', 'raw', '110'))}; policy {dice.choice(('accept', 'drop'))};"
    out = ["    chain back {", f"        {head}", "        meta l4proto icmpv6 accept"]
    out += ["        ct state established,related accept"] if dice.random() < 0.5 else []
    for line in _rules(dice, family, "back"):
        words = [TURNED.get(word, word) for word in line.split(" ")]
        if "fib" in words or "flags" in words or (hook == "postrouting" and {"reject", "jump", "goto"} & set(words)):
            continue
        out.append(" ".join(words))
    return [*out, "        tcp flags ack tcp sport 22 ip daddr 10.1.0.5 accept" if family != "ip6" else "", "    }"]


def _early(dice: random.Random) -> list[str]:
    """A chain that packets meet as they come in by the device; "no" is there to jump to."""
    device = dice.choice(('device "eth0"', "devices = { eth0 }"))
    out = ["table netdev early {", "    chain no {", "        ip saddr 10.1.0.0/24 drop", "    }", "    chain in {"]
    out += [
        f"        type filter hook ingress {device} priority {dice.choice(('0', '-500'))}; policy {dice.choice(('accept', 'accept', 'drop'))};"
    ]
    out += ["        meta protocol arp accept", "        meta l4proto icmpv6 accept"]
    for line in _rules(dice, "inet", "early"):
        if not {"ct", "fib", "nfproto", "@kept4", "@kept6", "@doors", "reject"} & set(line.split()):
            out.append(line.replace("jump one", "jump no").replace("jump two", "jump no").replace("goto two", "goto no"))
    return [*out, "    }", "}"]


def _match(dice: random.Random, family: str) -> str:
    kinds = ["port", "port", "proto", "iif", "fib", "flags"]
    kinds += ["four"] * 4 if family != "ip6" else []
    kinds += ["six"] * 3 if family != "ip" else []
    kinds += ["nfproto"] if family == "inet" else []
    sign = dice.choice(("", "", "", "!= "))
    match dice.choice(kinds):
        case "four":
            side = "saddr" if dice.random() < 0.85 else "daddr"
            value = dice.choice(SETS4) if side == "saddr" else dice.choice((HERE4, "10.9.9.9", "10.0.0.0/24"))
            return f"ip {side} {sign}{value}"
        case "six":
            side = "saddr" if dice.random() < 0.85 else "daddr"
            return f"ip6 {side} {sign}{dice.choice(SETS6) if side == 'saddr' else HERE6}"
        case "port":
            value = dice.choice(("22", "ssh", "{ 22, 80 }", "22-80", "$admin", "@doors", "1-1023", "{ 20-25, 2222 }"))
            return f"{dice.choice(('tcp', 'tcp', 'tcp', 'th'))} dport {sign}{value}".replace(
                "th dport", "meta l4proto tcp th dport"
            )
        case "proto":
            return dice.choice(
                (
                    "meta l4proto tcp",
                    "meta l4proto != udp",
                    "meta l4proto { tcp, udp }",
                    "ct state new",
                    "ct state != new",
                )
            )
        case "iif":
            return dice.choice(
                (
                    'iifname "eth0"',
                    'iifname != "eth0"',
                    'iif "lo"',
                    'iif != "lo"',
                    'iifname "eth*"',
                    'iifname { "lo", "eth0" }',
                )
            )
        case "fib":
            return dice.choice(("fib daddr type local", "fib daddr type != local", "fib daddr type { broadcast, multicast }"))
        case "flags":
            return dice.choice(
                (
                    "tcp flags syn",
                    "tcp flags & (fin|syn|rst|ack) == syn",
                    "tcp flags & (fin|syn|rst|ack) != syn",
                    "tcp flags syn / fin,syn,rst,ack",
                    "tcp flags == syn",
                )
            )
        case _:
            return dice.choice(("meta nfproto ipv4", "meta nfproto ipv6"))


def _vmap(dice: random.Random, family: str, chain: str) -> str:
    jump = "drop" if chain == "two" else "jump two"
    if family != "ip6" and dice.random() < 0.5:
        return dice.choice(
            (
                f"ip saddr vmap {{ 10.1.0.0/24 : accept, 10.2.0.0/16 : {jump} }}",
                "ip saddr . tcp dport { 10.1.0.5 . 22, 10.2.0.1 . 80 } drop",
                f"ip saddr . tcp dport vmap {{ 10.1.0.5 . 22 : accept, 10.2.7.9 . 2222 : {jump} }}",
            )
        )
    return dice.choice((f"tcp dport vmap {{ 22 : accept, 80 : drop, 2222 : {jump} }}", f"tcp dport vmap {{ 1-79 : {jump} }}"))
