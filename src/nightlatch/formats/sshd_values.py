"""How sshd reads the words behind a keyword, and how it writes the value down (sshd_config(5); servconf.c).

Every reader takes the words and the rest of the line as written, and gives the value in the spelling of `sshd -T`.
Raises `ValueRefusal` where sshd would refuse the whole file.
"""

from __future__ import annotations

import re
from collections.abc import Callable, Sequence

from nightlatch.net import literal

Reader = Callable[[Sequence[str], str], tuple[str, ...]]

INT_MAX = 2147483647
TIME_UNITS = {"": 1, "s": 1, "m": 60, "h": 3600, "d": 86400, "w": 604800}
SIZE_UNITS = {"": 1, "k": 1 << 10, "m": 1 << 20, "g": 1 << 30, "t": 1 << 40}
LOG_LEVELS = ("SILENT", "FATAL", "ERROR", "INFO", "VERBOSE", "DEBUG", "DEBUG2", "DEBUG3")
FACILITIES = ("DAEMON", "USER", "AUTH", "AUTHPRIV", *(f"LOCAL{n}" for n in range(8)))
QOS = {
    **{f"af{c}{d}": 8 * c + 2 * d << 2 for c in range(1, 5) for d in range(1, 4)},
    **{f"cs{n}": n << 5 for n in range(8)},
    "ef": 0xB8,
    "le": 0x04,
    "lowdelay": 0x10,
    "throughput": 0x08,
    "reliability": 0x04,
}


class ValueRefusal(ValueError):
    """sshd does not start with this value; the text says why."""


def one(words: Sequence[str]) -> str:
    """The only word of the line."""
    if not words or not words[0]:
        raise ValueRefusal("a value is missing")
    if len(words) > 1:
        raise ValueRefusal(f'there is more than one value: "{words[1]}"')
    return words[0]


def choice(**spellings: str) -> Reader:
    """One of several words in any case; the keyword's value is what `sshd -T` prints (underscores stand for dashes)."""
    table = {name.replace("_", "-").rstrip("-"): shown for name, shown in spellings.items()}

    def read(words: Sequence[str], rest: str) -> tuple[str, ...]:
        shown = table.get(one(words).lower())
        if shown is None:
            raise ValueRefusal(f'"{words[0]}" is not one of ' + ", ".join(sorted(table)))
        return (shown,)

    return read


def number(words: Sequence[str], rest: str) -> tuple[str, ...]:
    """A whole number from 0."""
    return (str(_whole(one(words))),)


def _whole(text: str, last: int = INT_MAX) -> int:
    if not re.fullmatch(r"[ \t\n\v\f\r]*\+?[0-9]{1,40}", text) or int(text) > last:
        raise ValueRefusal(f'"{text}" is no number from 0 to {last}')
    return int(text)


def seconds(text: str) -> int:
    """A time such as 90, 5m or 1h30m in seconds (sshd_config(5), TIME FORMATS)."""
    if not re.fullmatch(r"(?:[0-9]+[sSmMhHdDwW])*[0-9]*", text) or not text:
        raise ValueRefusal(f'"{text}" is no time')
    parts = re.findall(r"([0-9]+)([a-zA-Z]?)", text)
    total = INT_MAX + 1
    if all(len(number) <= 12 for number, _ in parts):
        total = sum(int(number) * TIME_UNITS[unit.lower()] for number, unit in parts)
    if total > INT_MAX:
        raise ValueRefusal(f'"{text}" is too long a time')
    return total


def time(words: Sequence[str], rest: str) -> tuple[str, ...]:
    """A time, as seconds."""
    return (str(seconds(one(words))),)


def time_or_none(words: Sequence[str], rest: str) -> tuple[str, ...]:
    """A time in seconds, or `none`."""
    text = one(words)
    return ("none",) if text.lower() == "none" else (str(seconds(text)),)


def file(words: Sequence[str], rest: str) -> tuple[str, ...]:
    """A path; a relative one counts from the daemon's own folder, which is / for a service."""
    text = one(words)
    if text.lower() == "none":
        return ("none",)
    return (text if text.startswith("/") else "/" + text,)


def plain(words: Sequence[str], rest: str) -> tuple[str, ...]:
    """One word as it stands."""
    return (one(words),)


def home_path(words: Sequence[str], rest: str) -> tuple[str, ...]:
    """A path in which ~ means root's home: sshd reads its configuration as root."""
    return (expand_home(one(words)),)


def expand_home(text: str) -> str:
    """The path with a leading ~ resolved for root."""
    if text == "~" or text.startswith("~/"):
        return "/root/" + text[2:]
    if text.startswith("~"):
        raise ValueRefusal(f'whose home "{text}" is can\'t be looked up')
    return text


def command(words: Sequence[str], rest: str) -> tuple[str, ...]:
    """The rest of the line as written."""
    return (rest.lstrip(" \t\r\n"),)


def absolute_command(words: Sequence[str], rest: str) -> tuple[str, ...]:
    """A command line that begins with an absolute path, or `none`."""
    text = rest.lstrip(" \t\r\n")
    if not text.startswith("/") and text.lower() != "none":
        raise ValueRefusal("the command must be an absolute path")
    return (text,)


def banner_text(words: Sequence[str], rest: str) -> tuple[str, ...]:
    """A text to the end of the line, or `none`."""
    text = rest.lstrip(" \t\r\n")
    return ("none" if text.lower() == "none" else text,)


def many(words: Sequence[str], rest: str) -> tuple[str, ...]:
    """One or more words, none of them empty."""
    if not words or not all(words):
        raise ValueRefusal("a value is missing or empty")
    return tuple(words)


def maybe_many(words: Sequence[str], rest: str) -> tuple[str, ...]:
    """Any number of words, none of them empty."""
    if not all(words):
        raise ValueRefusal("a value is empty")
    return tuple(words)


def homes(words: Sequence[str], rest: str) -> tuple[str, ...]:
    """Paths, as for AuthorizedKeysFile."""
    if not all(words):
        raise ValueRefusal("a value is empty")
    return tuple(expand_home(word) for word in words)


def no_equals(words: Sequence[str], rest: str) -> tuple[str, ...]:
    """Names of environment variables."""
    if not all(words) or any("=" in word for word in words):
        raise ValueRefusal("a name of a variable is expected, without =")
    return tuple(words)


def settings(words: Sequence[str], rest: str) -> tuple[str, ...]:
    """NAME=VALUE, one or more; the first of a name counts."""
    if not all("=" in word for word in words):
        raise ValueRefusal("NAME=VALUE is expected")
    seen: dict[str, str] = {}
    for word in words:
        seen.setdefault(word.partition("=")[0], word)
    return tuple(seen.values())


def port(words: Sequence[str], rest: str) -> tuple[str, ...]:
    """One port."""
    return (str(port_number(one(words))),)


def port_number(text: str) -> int:
    """A port from 1 to 65535, or the name ssh (services(5))."""
    if text == "ssh":
        return 22
    value = _whole(text, 65535)
    if not value:
        raise ValueRefusal("0 is no port")
    return value


def level(words: Sequence[str], rest: str) -> tuple[str, ...]:
    """A log level."""
    text = one(words).upper()
    text = {"QUIET": "SILENT", "DEBUG1": "DEBUG"}.get(text, text)
    if text not in LOG_LEVELS:
        raise ValueRefusal(f'"{words[0]}" is no log level')
    return (text,)


def facility(words: Sequence[str], rest: str) -> tuple[str, ...]:
    """A syslog facility."""
    text = one(words).upper()
    if text not in FACILITIES:
        raise ValueRefusal(f'"{words[0]}" is no syslog facility')
    return (text,)


def startups(words: Sequence[str], rest: str) -> tuple[str, ...]:
    """MaxStartups: start, rate and full; one number leaves the rate as it was."""
    text = one(words)
    three = re.fullmatch(r"([0-9]{1,9}):([0-9]{1,9}):([0-9]{1,9})", text)
    if three:
        begin, rate, full = (int(n) for n in three.groups())
        if begin > full or not 1 <= rate <= 100 or begin < 1 or full < 1:
            raise ValueRefusal(f'"{text}" is no start:rate:full')
        return (str(begin), str(rate), str(full))
    if not re.fullmatch(r"[0-9]{1,9}", text) or int(text) < 1:
        raise ValueRefusal(f'"{text}" is no number of connections')
    return (str(int(text)), "", str(int(text)))


def per_source(words: Sequence[str], rest: str) -> tuple[str, ...]:
    """A number of connections, or `none`."""
    text = one(words)
    return ("none",) if text == "none" else (str(_whole(text)),)


def block_size(words: Sequence[str], rest: str) -> tuple[str, ...]:
    """Prefix lengths for IPv4 and IPv6."""
    v4, colon, v6 = one(words).partition(":")
    return (f"{_whole(v4, 32)}:{_whole(v6, 128) if colon else 0}",)


def size(text: str) -> int:
    """A number of bytes with an optional unit."""
    found = re.fullmatch(r"([0-9]{1,15})([kmgtKMGT]?)", text)
    if not found:
        raise ValueRefusal(f'"{text}" is no number of bytes')
    return int(found[1]) * SIZE_UNITS[found[2].lower()]


def rekey(words: Sequence[str], rest: str) -> tuple[str, ...]:
    """RekeyLimit: bytes, and seconds where they are stated."""
    if not words or not words[0] or len(words) > 2:
        raise ValueRefusal("one or two values are expected")
    amount = 0 if words[0] == "default" else size(words[0])
    if words[0] != "default" and amount and amount < 16:
        raise ValueRefusal("the number of bytes is too small")
    if len(words) < 2:
        return (str(amount), "")
    return (str(amount), "" if words[1] == "none" else str(seconds(words[1])))


def tunnel(words: Sequence[str], rest: str) -> tuple[str, ...]:
    """PermitTunnel (in exactly this spelling)."""
    text = one(words)
    if text not in ("yes", "no", "ethernet", "point-to-point"):
        raise ValueRefusal(f'"{text}" is not one of ethernet, no, point-to-point, yes')
    return (text,)


def targets(words: Sequence[str], rest: str) -> tuple[str, ...]:
    """PermitOpen: any, none, or host:port words."""
    return _targets(words, listen=False)


def listen_targets(words: Sequence[str], rest: str) -> tuple[str, ...]:
    """PermitListen: any, none, or [host:]port words."""
    return _targets(words, listen=True)


def _targets(words: Sequence[str], *, listen: bool) -> tuple[str, ...]:
    if not words:
        raise ValueRefusal("a value is missing")
    if len(words) == 1 and words[0] in ("any", "none"):
        return (words[0],)
    out: list[str] = []
    for word in words:
        if listen and ":" not in word:
            found = re.fullmatch(r"()([0-9]+|\*|ssh)", word)
        else:
            found = re.fullmatch(r"(\[[^\]/]+\]|[^:\[\]/]+):([0-9]+|\*|ssh)", word)
        if not found or (found[2].isdigit() and not 0 < int(found[2][:9]) <= 65535):
            raise ValueRefusal(f'"{word}" is no host:port')
        out.append(word if found[1] else f"*:{word}")
    return tuple(out)


def key_options(words: Sequence[str], rest: str) -> tuple[str, ...]:
    """PubkeyAuthOptions."""
    if not all(words):
        raise ValueRefusal("a value is empty")
    bad = [word for word in words if word.lower() not in ("none", "touch-required", "verify-required")]
    if bad:
        raise ValueRefusal(f'"{bad[0]}" is not one of none, touch-required, verify-required')
    chosen = [name for name in ("touch-required", "verify-required") if name in {w.lower() for w in words}]
    if words and words[-1].lower() == "none":
        chosen = []
    return tuple(chosen) or ("none",)


def mask(words: Sequence[str], rest: str) -> tuple[str, ...]:
    """An octal mask."""
    text = one(words)
    if not re.fullmatch(r"[0-7]+", text) or int(text, 8) > 0o777:
        raise ValueRefusal(f'"{text}" is no octal mask')
    return (f"0{int(text, 8):o}",)


def quality(words: Sequence[str], rest: str) -> tuple[str, ...]:
    """IPQoS: one or two classes."""
    if not 1 <= len(words) <= 2:
        raise ValueRefusal("one or two values are expected")
    shown = [_quality(word) for word in words]
    return (shown[0], shown[-1])


def _quality(word: str) -> str:
    if word.lower() == "none":
        return "none"
    value = QOS.get(word.lower())
    if value is None:
        try:
            value = int(word, 0) if re.fullmatch(r"0x[0-9a-fA-F]+|[1-9][0-9]*|0", word) else int(word, 8)
        except ValueError:
            raise ValueRefusal(f'"{word}" is no class of service') from None
        if not 0 <= value <= 255:
            raise ValueRefusal(f'"{word}" is no class of service')
    return next((name for name, each in QOS.items() if each == value), f"0x{value:02x}")


def environment(words: Sequence[str], rest: str) -> tuple[str, ...]:
    """PermitUserEnvironment: yes, no or a pattern list."""
    return (one(words),)


def timeouts(words: Sequence[str], rest: str) -> tuple[str, ...]:
    """ChannelTimeout: type=time words, or none alone, which is the same as no line at all."""
    if not words:
        raise ValueRefusal("a value is missing")
    if words[0] == "none":
        if len(words) > 1:
            raise ValueRefusal("none must stand alone")
        return ()
    for word in words:
        name, equals, span = word.partition("=")
        if not name or not equals:
            raise ValueRefusal(f'"{word}" is no type=time')
        seconds(span)
    return tuple(words)


def subsystem(words: Sequence[str], rest: str) -> tuple[str, ...]:
    """Subsystem: a name and a command."""
    if len(words) < 2 or not words[0] or not words[1]:
        raise ValueRefusal("a name and a command are expected")
    return (words[0], " ".join(words[1:]))


def listen(words: Sequence[str], rest: str) -> tuple[str, ...]:
    """ListenAddress: address, port ("" when not said); names are not looked up.

    Raises Refused for a name: what it stands for can't be known from the file.
    """
    if not words or not words[0]:
        raise ValueRefusal("an address is missing")
    if len(words) == 3 and words[1] == "rdomain":
        raise ValueRefusal("routing domains are not supported on this system")
    text = one(words)
    bracket = re.fullmatch(r"\[([^\]]*)\](?::(.+))?", text)
    if bracket:
        host, stated = bracket[1], bracket[2] or ""
    elif text.count(":") == 1:
        host, stated = text.split(":")
    else:
        host, stated = text, ""
    try:
        literal.parse_network(host if host else "/")
    except literal.AddressError:
        raise ValueRefusal(f'"{host}" is no address: names are not looked up') from None
    return (host.lower(), str(port_number(stated)) if stated else "")


def methods(words: Sequence[str], rest: str) -> tuple[str, ...]:
    """AuthenticationMethods: any alone, or lists of methods."""
    if not words or not all(words):
        raise ValueRefusal("a value is missing or empty")
    if "any" in words and len(words) > 1:
        raise ValueRefusal('"any" must stand alone')
    if words[0] == "any":
        return ("any",)
    for word in words:
        names = [part.partition(":")[0] for part in word.split(",")]
        unknown = [name for name in names if name not in METHODS]
        if unknown:
            raise ValueRefusal(f'"{unknown[0]}" is no authentication method')
        if "none" in names and len(names) > 1:
            raise ValueRefusal('"none" must stand alone')
    return tuple(words)


METHODS = ("none", "publickey", "password", "keyboard-interactive", "hostbased", "gssapi-with-mic", "gssapi-keyex")


def ignored(words: Sequence[str], rest: str) -> tuple[str, ...]:
    """A keyword that sshd no longer honours: anything goes."""
    return ()
