"""Random network settings in each system's own form: text that the real programs read as well as we do."""

from __future__ import annotations

import random
from dataclasses import dataclass, field


@dataclass
class Dice:
    """Draws parts of settings; the seed is told when a case fails."""

    seed: int
    roll: random.Random = field(init=False)

    def __post_init__(self) -> None:
        self.roll = random.Random(self.seed)

    def v4(self) -> str:
        return f"10.{self.roll.randint(0, 255)}.{self.roll.randint(0, 255)}.{self.roll.randint(1, 254)}"

    def v6(self) -> str:
        return f"2001:db8:{self.roll.randint(1, 0xFFFF):x}::{self.roll.randint(1, 0xFFFF):x}"

    def address(self) -> str:
        if self.roll.random() < 0.35:
            return f"{self.v6()}/{self.roll.choice((48, 64, 128))}"
        return f"{self.v4()}/{self.roll.choice((8, 16, 24, 30, 32))}"

    def one(self, *of: str) -> str:
        return self.roll.choice(of)

    def perhaps(self, chance: float = 0.5) -> bool:
        return self.roll.random() < chance


def netplan(dice: Dice) -> dict[str, str]:
    """Some files in several folders, by path; two of them often speak of one interface."""
    out: dict[str, str] = {}
    for _ in range(dice.roll.randint(1, 4)):
        folder = dice.one("etc", "lib", "run")
        name = dice.one("01-base", "20-site", "50-more", "99-last")
        lines = ["network:", "  version: 2"]
        if dice.perhaps(0.3):
            lines.append("  renderer: networkd")
        lines.append("  ethernets:")
        for number in sorted(dice.roll.sample(range(4), dice.roll.randint(1, 3))):
            lines += _netplan_interface(dice, f"eth{number}")
        out[f"/{folder}/netplan/{name}.yaml"] = "\n".join(lines) + "\n"
    return out


def _netplan_interface(dice: Dice, name: str) -> list[str]:
    lines = [f"    {name}:"]
    if dice.perhaps(0.15):
        lines.append(f'      match: {{macaddress: "52:54:00:00:00:0{name[-1]}"}}\n      set-name: {name}')
    if dice.perhaps():
        lines.append(f"      dhcp4: {dice.one('true', 'no', 'yes', 'false', 'on')}")
    if dice.perhaps(0.3):
        lines.append(f"      dhcp6: {dice.one('true', 'off')}")
    if dice.perhaps(0.2):
        lines.append(f"      accept-ra: {dice.one('true', 'false')}")
    if dice.perhaps(0.2):
        lines.append(f"      link-local: {dice.one('[]', '[ipv4]', '[ipv6]', '[ipv4, ipv6]')}")
    if dice.perhaps(0.2):
        lines.append(f"      activation-mode: {dice.one('manual', 'off')}")
    if dice.perhaps(0.2):
        lines.append("      optional: true  # may be late")
    found = [dice.address() for _ in range(dice.roll.randint(0, 3))]
    if found and dice.perhaps():
        lines.append("      addresses: [" + ", ".join(f'"{each}"' for each in found) + "]")
    elif found:
        lines += [
            "      addresses:",
            *(f"        - {each}" for each in found[:-1]),
            f"        - {found[-1]}:\n            label: x{name}",
        ]
    if dice.perhaps(0.4):
        lines.append(f"      nameservers: {{addresses: [{dice.v4()}, {dice.v4()}], search: [skerry.example]}}")
    if dice.perhaps(0.5):
        lines.append("      routes:")
        if dice.perhaps(0.7):
            lines.append(
                f"        - {{to: {dice.one('default', '0.0.0.0/0')}, via: {dice.v4()}, metric: {dice.roll.randint(1, 500)}}}"
            )
        lines.append(f"        - to: 10.{dice.roll.randint(0, 255)}.0.0/16\n          via: {dice.v4()}")
    if len(lines) == 1:
        lines.append("      dhcp4: true")
    return lines


def interfaces(dice: Dice) -> dict[str, str]:
    """A main file that sources others."""
    names = [f"eth{n}" for n in range(dice.roll.randint(1, 4))]
    parts: dict[str, list[str]] = {"/etc/network/interfaces": ["# written by hand", "auto lo", "iface lo inet loopback", ""]}
    main = parts["/etc/network/interfaces"]
    if dice.perhaps(0.6):
        main.insert(1, dice.one("source /etc/network/interfaces.d/*", "source interfaces.d/*", "source-directory interfaces.d"))
        parts["/etc/network/interfaces.d/site"] = []
    for name in names:
        target = parts[dice.one(*parts)]
        if dice.perhaps(0.7):
            target.append(dice.one(f"auto {name}", f"allow-hotplug {name}", f"allow-auto \\\n    {name}"))
        target += _stanza(dice, name, "inet")
        if dice.perhaps(0.4):
            target += _stanza(dice, name, "inet6")
    return {path: "\n".join(lines) + "\n" for path, lines in parts.items()}


def _stanza(dice: Dice, name: str, family: str) -> list[str]:
    method = dice.one("static", "static", "dhcp", "manual") if family == "inet" else dice.one("static", "auto", "manual")
    indent = dice.one("    ", "\t", "")
    lines = [f"iface {name} {family} {method}"]
    if method == "static" and family == "inet":
        address = dice.v4()
        form = dice.roll.randint(0, 3)
        if form == 0:
            lines.append(f"{indent}address {address}/{dice.one('8', '20', '24', '31')}")
        elif form == 1:
            lines += [
                f"{indent}address {address}",
                f"{indent}netmask {dice.one('255.255.0.0', '255.255.255.192', '24')}",
            ]
        elif form == 2:
            lines.append(f"{indent}address {address}/255.255.240.0")
        else:
            lines.append(f"{indent}address {dice.one(address, '192.168.5.6', '172.16.9.9')}")
        if dice.perhaps(0.6):
            lines.append(f"{indent}gateway {dice.v4()}")
        if dice.perhaps(0.3):
            lines.append(f"{indent}dns-nameservers {dice.v4()} {dice.v4()}  ")
    elif method == "static":
        lines += [f"{indent}address {dice.v6()}/{dice.one('64', '48')}", f"{indent}autoconf {dice.one('0', '1')}"]
        if dice.perhaps(0.5):
            lines.append(f"{indent}gateway {dice.v6()}")
    return [*lines, ""]


def keyfile(dice: Dice, number: int) -> str:
    """One profile of NetworkManager, in its own spelling or the older one."""
    lines = ["[connection]", f"id=case {number}", f"uuid=2b0e0f8e-0000-4000-8000-{number:012x}", "type=ethernet"]
    if dice.perhaps(0.8):
        lines.append(f"interface-name=eth{dice.roll.randint(0, 9)}")
    if dice.perhaps(0.3):
        lines.append(f"autoconnect={dice.one('true', 'false')}")
    if dice.perhaps(0.3):
        lines += ["", "[ethernet]", "mac-address=52:54:00:AB:CD:EF"]
    for version in (4, 6):
        method = dice.one("auto", "manual", "manual", "disabled", "link-local")
        lines += ["", f"[ipv{version}]", f"method={method}"]
        if method not in ("auto", "manual"):
            continue
        make = dice.v4 if version == 4 else dice.v6
        length = "24" if version == 4 else "64"
        for n in range(1, 1 + dice.roll.randint(1 if method == "manual" else 0, 3)):
            gateway = f",{make()}" if n == 1 and dice.perhaps(0.4) else ""
            lines.append(f"address{n}={make()}{f'/{length}' if dice.perhaps(0.9) else ''}{gateway}")
        if dice.perhaps(0.3):
            lines.append(f"dns={make()};{make()};")
        if dice.perhaps(0.3):
            lines.append(f"route1={make()}/{32 if version == 4 else 128},{make()},{dice.roll.randint(1, 99)}")
        if dice.perhaps(0.2):
            lines.append("never-default=true")
        if dice.perhaps(0.2):
            lines.append("ignore-auto-dns=true")
    return "\n".join(lines) + "\n"
