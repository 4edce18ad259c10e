"""The JSON Schema of the estate file (draft 2020-12): its keys, and which values they take, for editors.

It says what can be said without looking anything up; whether a name exists is for the loader. A test holds that every
file that loads fits it, and that it knows the same keys as the loader.
"""

from __future__ import annotations

from typing import Any

from nightlatch.estate.model import READ_AS_FILES
from nightlatch.estate.reader import NAME
from nightlatch.estate.sentences import LAST_SCREEN, SEALS
from nightlatch.model.services import SERVICES, SSH, VNC, ServiceWords

_Schema = dict[str, Any]
_TEXT: _Schema = {"type": "string", "minLength": 1}
_NAME: _Schema = {"type": "string", "pattern": f"^{NAME.pattern}$"}
_DAY: _Schema = {"type": "string", "pattern": "^[0-9]{4}-[0-9]{2}-[0-9]{2}$"}


def _told(description: str, schema: _Schema) -> _Schema:
    return {"description": description, **schema}


def _some(schema: _Schema) -> _Schema:
    """One value or a list of them."""
    return {"anyOf": [schema, {"type": "array", "items": schema, "minItems": 1}]}


def _closed(properties: dict[str, _Schema], required: tuple[str, ...] = ()) -> _Schema:
    out: _Schema = {"type": "object", "additionalProperties": False, "properties": properties}
    return {**out, "required": list(required)} if required else out


def _named(schema: _Schema) -> _Schema:
    """A mapping from names to values."""
    return {"type": "object", "propertyNames": _NAME, "additionalProperties": schema}


_PROOFS = tuple(dict.fromkeys(proof for each in SERVICES for proof in each.proofs))
_PROOF = {"type": "string", "pattern": "^({one})( *\\+ *({one}))*$".format(one="|".join(_PROOFS))}
_SSH_PROOF = {"type": "string", "pattern": "^({one})( *\\+ *({one}))*$".format(one="|".join(SSH.proofs))}
_SCREEN: _Schema = {"type": "integer", "minimum": 0, "maximum": LAST_SCREEN}
_ONLY = {
    "command": _closed({"command": _TEXT}, ("command",)),
    "files": _closed({"files": {"type": "string", "pattern": "^/"}}, ("files",)),
    "view": _closed({"view": {"const": "yes"}}, ("view",)),
}
_PLACES = _told("Names of places, addresses or prefixes, or anywhere (always a finding)", _some(_TEXT))
_GUESTS = _told("Names of guests, label NAME, or all guests", _some(_TEXT))
_KEYS = _told("Files of public keys, counted from this file's folder", _some(_TEXT))
_LENGTH: _Schema = {"type": "string", "pattern": "/[0-9]+$"}
_PORT = {"type": "integer", "minimum": 1, "maximum": 65535}


def _places() -> _Schema:
    behind = _closed({"inside": _some(_TEXT), "seen_as": _some(_TEXT)}, ("inside", "seen_as"))
    return _named({"anyOf": [_some(_TEXT), _told("Behind an address translation of its own", behind)]})


def _principals(what: str) -> _Schema:
    certificate = _closed({"authority": _NAME, "principals": _some(_TEXT)}, ("authority", "principals"))
    ending = {
        "key": _told("The file of a key that ends", _TEXT),
        "until": _told("The last day on which it counts", _DAY),
        "then": _told("The file of the key that takes its place", _TEXT),
    }
    own = _some({"anyOf": [_TEXT, _closed(ending, ("key", "until"))]})
    keys = {
        "keys": _told("Files of public keys, counted from this file's folder", own),
        "accounts": _told("Account on a guest, where it is not the own name", _named(_TEXT)),
        "certificate": certificate,
        "until": _told("The last day on which anything is granted", _DAY),
    }
    return _told(what, _named({"anyOf": [_closed(keys), {"type": "null"}]}))


def _via() -> _Schema:
    door = {"as": _TEXT, "key": _told("The public key of management access", _TEXT), "from": _PLACES}
    ways: list[_Schema] = [{"const": "here"}, _closed({"ssh": _TEXT, "port": _PORT, **door}, ("ssh",))]
    ways += [_closed({way: _TEXT, **door}, (way,)) for way in READ_AS_FILES]
    return _told("How Nightlatch gets at the guest, and management access", {"anyOf": ways})


def _guests() -> _Schema:
    pins = {"type": "string", "pattern": "^SHA256:"}
    return _named(
        _closed(
            {
                "system": _told("Such as debian-12", _TEXT),
                "dial": _told("What people type: HOST or HOST:PORT", _TEXT),
                "network": _told("A name under networks", _NAME),
                "addresses": _told(
                    "Addresses of each interface, such as enp0s8: [192.168.56.21/24]",
                    {"type": "object", "additionalProperties": _some(_LENGTH)},
                ),
                "host_name": _told("What it calls itself", {"type": "string", "pattern": "^[a-z0-9.-]+$", "maxLength": 64}),
                "time_zone": _told("What its clock shows, such as Atlantic/Faroe", _TEXT),
                "via": _via(),
                "labels": _some(_NAME),
                "host_keys": _told("Fingerprints; nightlatch meet writes them", _some(pins)),
            },
            ("via",),
        )
    )


def _perimeter() -> _Schema:
    names = ("source", "port", "action", "protocol", "priority", "direction", "label", "target")
    columns = _closed(dict.fromkeys(names, _TEXT), names[:3])
    read = {"read": _told("An exported table: CSV or JSON", _TEXT), "taken": _DAY, "columns": columns}
    service = {"service": _told("Where its filter takes the table", {"type": "string", "pattern": "^http://"})}
    claim = _closed(
        {"from": _PLACES, "port": _some({"anyOf": [_PORT, _TEXT]}), "protocol": {"enum": ["tcp", "udp"]}},
        ("from", "port"),
    )
    return {"anyOf": [_closed({**read, **service}, tuple(read)), _closed({"claimed": _some(claim)}, ("claimed",))]}


def _forward() -> _Schema:
    to = _closed({"guest": _NAME, "port": _PORT, "address": _TEXT}, ("guest", "port"))
    sees = _told("An address, or caller", _TEXT)
    keys = {"at": _told("An address, or any", _TEXT), "port": _PORT, "to": to, "guest_sees": sees}
    return _closed(keys, ("at", "port", "to"))


def _networks() -> _Schema:
    keys = {
        "subnet": _some(_LENGTH),
        "host": _told("The machine that runs the guests", _some(_TEXT)),
        "leases": _told("FIRST-LAST, what a server gives out", _some({"type": "string", "pattern": "-"})),
        "gateway": _some(_TEXT),
        "name_servers": _some(_TEXT),
        "private": _told("Its addresses mean nothing outside", {"enum": [True, False, "true", "false"]}),
        "forwards": _some(_forward()),
        "perimeter": _told("The filter outside the guests; several in series, the outermost first", _some(_perimeter())),
    }
    return _told("Networks that guests sit on", _named(_closed(keys, ("subnet",))))


def _grant() -> _Schema:
    keys = {
        "let": _told("People, robots, or team NAME", _some(_TEXT)),
        "into": _GUESTS,
        "by": {"enum": [each.name for each in SERVICES]},
        "from": _PLACES,
        "with": _told("key + password asks for both, a list for either", _some(_PROOF)),
        "as": _told("The account, where it is not the person's own", _TEXT),
        "shared": _told("Why several people share one account", _TEXT),
        "may": {"const": "administer"},
        "after": {"enum": ["own password", "nothing"]},
        "only": {"anyOf": list(_ONLY.values())},
        "through": _told(
            "The login by SSH on the same guest whose tunnel leads there, and no other way",
            _closed({"ssh": _TEXT, "as": _TEXT, "with": _some(_SSH_PROOF)}, ("ssh", "with")),
        ),
        "screen": _told(
            "The number of a display; its port is 5900 and the number", {"type": "integer", "minimum": 0, "maximum": LAST_SCREEN}
        ),
        "seal": _told("The least that the connection must have, of a service that has several", {"enum": list(SEALS)}),
        "until": _told("The last day it counts", _DAY),
    }
    schema = _closed(keys, ("let", "into", "by", "from", "with"))
    return {**schema, "dependentRequired": {"may": ["after"], "after": ["may"]}, "allOf": [_by(each) for each in SERVICES]}


def _by(words: ServiceWords) -> _Schema:
    """What a grant by one service may say."""
    one = "|".join(words.proofs)
    proof = {"type": "string", "pattern": f"^({one})( *\\+ *({one}))*$"}
    keys: _Schema = {"with": _some(proof)}
    keys["only"] = {"anyOf": [_ONLY[each] for each in words.only]} if words.only else False
    if words != VNC:
        keys["screen"] = False
    if words == SSH:
        keys["through"] = False
    if words == SSH:
        keys["seal"] = False
    return {"if": {"properties": {"by": {"const": words.name}}}, "then": {"properties": keys}}


def _service() -> _Schema:
    unit: _Schema = {"type": "string", "pattern": "^[A-Za-z0-9:_.@-]+$"}
    keys = {
        "run": _told("A unit that runs, now and at boot; ssh for the SSH server", unit),
        "stop": _told("A unit that does neither", unit),
        "on": _GUESTS,
        "at": _told("The ports of ssh", _some(_PORT)),
        "package": _told("What brings the unit where it is not there", _TEXT),
    }
    return {**_closed(keys, ("on",)), "oneOf": [{"required": ["run"]}, {"required": ["stop"]}]}


def _emergency() -> _Schema:
    ssh = _closed({"from": _PLACES, "with": _some(_SSH_PROOF), "keys": _KEYS}, ("from", "with"))
    by = _closed({"console": _closed({"with": {"const": "password"}}, ("with",)), "ssh": ssh})
    keys = {
        "account": _TEXT,
        "into": _GUESTS,
        "tested": _DAY,
        "by": by,
        "test_every_days": {"type": "integer", "minimum": 1, "maximum": 3650},
    }
    return _closed(keys, ("account", "into", "by"))


def _waiver() -> _Schema:
    keys = {
        "finding": _told("An id that nightlatch checks lists", _TEXT),
        "on": _GUESTS,
        "owner": _NAME,
        "because": _TEXT,
        "until": _DAY,
    }
    accepts = {
        "account": _told("Of a hole: the account that is open", _TEXT),
        "person": _told("Whose keys and certificates open it, or who is shut out", _NAME),
        "key": _told("The fingerprint of the key that opens it", _TEXT),
        "with": _told("What opens it, where that is no key", {"enum": ["password", "none", "certificate", "code", "unknown"]}),
        "from": _PLACES,
        "may": _told("The hole gives root's rights, too", {"const": "administer"}),
    }
    return _closed({**keys, **accepts}, tuple(keys))


def schema() -> _Schema:
    """The schema as a document."""
    listed = {"accounts": _told("A CSV file: account, id, groups, disabled", _TEXT), "taken": _DAY}
    sections: dict[str, _Schema] = {
        "nightlatch": _told("The version of this format", {"const": 1}),
        "estate": _told("The estate's name", _TEXT),
        "time_zone": _told("In which the last day of an until ends, such as Atlantic/Faroe", _TEXT),
        "authorities": _told("Files of public keys that sign certificates", _named(_TEXT)),
        "directories": _told("Dated lists of a directory's accounts", _named(_closed(listed, ("accounts", "taken")))),
        "places": _places(),
        "people": _principals("Everybody who logs in"),
        "teams": _named(_some(_NAME)),
        "robots": _principals("Programs that log in"),
        "people_from": _told("A CSV file with a row for each person or robot", _TEXT),
        "networks": _networks(),
        "guests": _guests(),
        "guests_from": _told("A CSV file with a row for each guest", _TEXT),
        "grants": {"type": "array", "items": _grant()},
        "services": _told("What runs on guests, and what does not", {"type": "array", "items": _service()}),
        "emergency": {"type": "array", "items": _emergency()},
        "waivers": {"type": "array", "items": _waiver()},
        "evidence_days": _told(
            "For how many days survey keeps evidence of each (30 unless said)", {"type": "integer", "minimum": 1, "maximum": 3650}
        ),
        "revoked": _told("A list of keys and certificates that open nothing any more, for every guest's sshd", _TEXT),
        "password_days": _told(
            "For how many days a password may stay the same; accounts that guests let keep theirs longer are told",
            {"type": "integer", "minimum": 1, "maximum": 3650},
        ),
        "narrow_at": _told("Where a source limit is written: the first that fits", _some({"enum": ["filter", "service", "key"]})),
    }
    out = {"$schema": "https://json-schema.org/draft/2020-12/schema", "title": "Nightlatch estate file"}
    return {
        **out,
        **_closed(sections, ("nightlatch", "estate")),
        "anyOf": [{"required": ["guests"]}, {"required": ["guests_from"]}],
    }
