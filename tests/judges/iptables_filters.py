"""Random rule sets as iptables-restore reads them, for both families; callers and ports are those of tests/judges/filters.py."""

from __future__ import annotations

import random

IPSETS = """\
create kept4 hash:net family inet
add kept4 10.1.0.0/24
add kept4 10.2.7.9
create pairs4 hash:ip,port family inet
add pairs4 10.1.0.5,tcp:22
add pairs4 10.2.0.1,80
create kept6 hash:net family inet6
add kept6 2001:db8:0:1::/64
create pairs6 hash:ip,port family inet6
add pairs6 2001:db8::2,tcp:2222
"""
SOURCES = {
    "4": ("10.1.0.0/16", "10.1.0.5", "10.1.0.4/31", "10.2.0.0/255.254.0.0", "10.1.0.5,10.2.0.0/16", "10.200.0.9/24"),
    "6": ("2001:db8:0:1::/64", "2001:db8:0:1::5", "2001:db8::2,2001:db8:0:2::/64", "2001:db8:0:1::6/127"),
}
RANGES = {"4": ("10.1.0.0-10.1.0.5", "10.1.0.6-10.3.0.255"), "6": ("2001:db8::-2001:db8:0:1::5",)}
HERE = {"4": ("10.0.0.1", "10.9.9.9", "10.0.0.0/24"), "6": ("2001:db8::1", "2001:db8::/64")}
ENDS = ("ACCEPT", "ACCEPT", "DROP", "REJECT", "RETURN", 'LOG --log-prefix "a note: "', "MARK --set-mark 1")


def ruleset(seed: int, version: str) -> str:
    """One text for one family."""
    dice = random.Random(f"{seed} {version}")
    out: list[str] = []
    if dice.random() < 0.3:
        hook, table = dice.choice((("PREROUTING", "raw"), ("PREROUTING", "mangle"), ("INPUT", "mangle")))
        out += [f"*{table}", f":{hook} {dice.choice(('ACCEPT', 'ACCEPT', 'DROP'))} [0:0]", _let(hook, version)]
        out += [f"-A {hook} {_rule(dice, version, (), table)}" for _ in range(dice.randint(0, 2))]
        out.append("COMMIT")
    if dice.random() < 0.3:
        out += ["*nat", ":PREROUTING ACCEPT [0:0]"]
        for _ in range(dice.randint(1, 3)):
            here = "10.0.0.1" if version == "4" else "[2001:db8::1]"
            end = dice.choice(
                ("REDIRECT --to-ports 22", "REDIRECT --to-ports 80", f"DNAT --to-destination {here}:2222", "RETURN")
            )
            match = dice.choice(("--dport 8022", f"-s {SOURCES[version][0]} --dport 8000:8100", "-m multiport --dports 80,8022"))
            out.append(f"-A PREROUTING -p tcp {match} -j {end}")
        out.append("COMMIT")
    out += ["# made up", "*filter", f":INPUT {dice.choice(('ACCEPT', 'DROP'))} [0:0]", ":two - [0:0]", ":one - [0:0]"]
    out.append(_let("INPUT", version))
    out.append(f"-A INPUT -p {'icmp' if version == '4' else 'ipv6-icmp'} -j ACCEPT")
    for chain, below in (("two", ()), ("one", ("two",)), ("INPUT", ("one", "two"))):
        for _ in range(dice.randint(0, 5)):
            verb = dice.choice(("-A", "-A", "-A", "-I"))
            # Behind the line for answers, or before it: then what follows a first packet is asked about, too.
            place = "2 " if verb == "-I" and chain == "INPUT" and dice.random() < 0.6 else ""
            out.append(f"{verb} {chain} {place}{_rule(dice, version, below, 'filter')}")
    if dice.random() < 0.4:
        out += _answers(dice, version)
    return "\n".join([*out, "COMMIT", ""])


TURNED = {
    "-s": "-d",
    "-d": "-s",
    "--dport": "--sport",
    "--dports": "--sports",
    "-i": "-o",
    "--src-range": "--dst-range",
    "src": "dst",
    "src,dst": "dst,src",
    "--dst-type": "--src-type",
}


def _answers(dice: random.Random, version: str) -> list[str]:
    """What the answers meet on their way out."""
    out = [
        f":OUTPUT {dice.choice(('ACCEPT', 'DROP'))} [0:0]",
        f"-A OUTPUT -p {'icmp' if version == '4' else 'ipv6-icmp'} -j ACCEPT",
    ]
    out += ["-A OUTPUT -m state --state ESTABLISHED -j ACCEPT"] if dice.random() < 0.4 else []
    for _ in range(dice.randint(0, 4)):
        words = [TURNED.get(word, word) for word in _rule(dice, version, ("one", "two"), "filter").split(" ")]
        if not {"--tcp-flags", "recent"} & set(words):
            out.append(f"-A OUTPUT {' '.join(words)}")
    return out


def _let(hook: str, version: str) -> str:
    """Without these neither answers nor neighbours come through, and nothing at all would."""
    if hook == "PREROUTING":
        return f"-A {hook} -p {'icmp' if version == '4' else 'ipv6-icmp'} -j ACCEPT"
    return f"-A {hook} -m conntrack --ctstate RELATED,ESTABLISHED -j ACCEPT\n-A {hook} -p {'icmp' if version == '4' else 'ipv6-icmp'} -j ACCEPT"


def _rule(dice: random.Random, version: str, below: tuple[str, ...], table: str) -> str:
    if below and dice.random() < 0.25:
        end = f"{dice.choice(('-j', '-g'))} {dice.choice(below)}"
    else:
        chosen = dice.choice(ENDS)
        if table != "filter" and chosen == "REJECT":
            chosen = "DROP"
        if chosen.startswith("MARK") and table != "mangle":
            chosen = "RETURN"
        end = f"-j {chosen}"
    tcp = dice.random() < 0.7
    parts = ["-p tcp"] if tcp else []
    parts += [_match(dice, version, tcp) for _ in range(dice.choice((0, 1, 1, 2)))]
    if tcp and end == "-j REJECT" and dice.random() < 0.5:
        end += " --reject-with tcp-reset"
    # No option of this kind may stand twice.
    kept: list[str] = []
    for part in parts:
        word = next(each for each in part.split() if each not in ("!", "-m", "tcp"))
        if not any(word in each.split() for each in kept):
            kept.append(part)
    return " ".join([*kept, end])


def _match(dice: random.Random, version: str, tcp: bool) -> str:
    no = dice.choice(("", "", "", "! "))
    kinds = ["source"] * 4 + ["target", "range", "set", "interface", "state", "type", "limit"]
    kinds += ["port", "port", "many", "flags", "pairs", "recent"] if tcp else []
    match dice.choice(kinds):
        case "source":
            value = dice.choice(SOURCES[version])
            return f"{'' if ',' in value else no}-s {value}"
        case "target":
            return f"{no}-d {dice.choice(HERE[version])}"
        case "range":
            return f"-m iprange {no}--src-range {dice.choice(RANGES[version])}"
        case "set":
            return f"-m set {no}--match-set kept{version} src"
        case "pairs":
            return f"-m set --match-set pairs{version} src,dst"
        case "interface":
            return f"{no}-i {dice.choice(('eth0', 'eth+', 'lo', 'eth1'))}"
        case "state":
            return dice.choice(("-m conntrack --ctstate NEW", "-m state --state NEW,RELATED", "-m conntrack ! --ctstate NEW"))
        case "type":
            return f"-m addrtype {no}--dst-type {dice.choice(('LOCAL', 'UNICAST', 'BROADCAST,LOCAL' if version == '4' else 'MULTICAST,LOCAL'))}"
        case "limit":
            return dice.choice(
                (
                    "-m limit --limit 200/sec --limit-burst 100",
                    '-m comment --comment "say \\"no\\" to -j"',
                    "-m hashlimit --hashlimit-upto 200/sec --hashlimit-burst 200 --hashlimit-mode srcip --hashlimit-name some",
                    "-m hashlimit --hashlimit-above 200/sec --hashlimit-burst 200 --hashlimit-mode srcip --hashlimit-name many",
                )
            )
        case "port":
            return f"{dice.choice(('', '-m tcp '))}{no}--dport {dice.choice(('22', 'ssh', '22:80', ':1023', '2000:'))}"
        case "many":
            return f"-m multiport {no}--dports {dice.choice(('22,80', '20:25,2222', 'ssh,http'))}"
        case "recent":
            return f"-m recent {no}--rcheck --seconds 60 --hitcount 20 --name callers"
        case _:
            return dice.choice(
                (f"{no}--syn", f"{no}--tcp-flags ALL SYN", "--tcp-flags FIN,SYN,RST,ACK SYN", "--tcp-flags ALL NONE")
            )
