"""One document of every JSON format stands in tests/documents: who reads them by program reads what stands there.

A change of a document is seen in its file. With WRITE_DOCUMENTS=1 in the environment they are written anew.
"""

from __future__ import annotations

import json
import os
import re
from collections.abc import Callable
from datetime import UTC, datetime
from pathlib import Path
from typing import Any

import pytest

from nightlatch.audit.symptoms import Symptom
from nightlatch.audit.wire import GrantStanding, GrantState
from nightlatch.demo.build import build
from nightlatch.draft.plan import ProvedDraft
from nightlatch.estate.load import load as load_estate
from nightlatch.estate.model import Estate
from nightlatch.faults import RefusedError
from nightlatch.formats.keys import parse_public
from nightlatch.latch.live import LatchReport, Pending
from nightlatch.model.handshake import RequestedProof
from nightlatch.ops.access import access
from nightlatch.ops.addresses import addresses, addresses_target
from nightlatch.ops.audit import audit
from nightlatch.ops.compare import compare_targets
from nightlatch.ops.draft import draft, prove
from nightlatch.ops.evidence import write_evidence
from nightlatch.ops.exposure import exposure as exposure_of
from nightlatch.ops.find import SearchResult, SearchVerdict, Sign, SoughtAddress
from nightlatch.ops.key import inspect_key
from nightlatch.ops.password import judge_password
from nightlatch.ops.perimeter import draft_perimeter
from nightlatch.ops.reach import GuestReach, OtherService, Reach
from nightlatch.ops.stolen import stolen
from nightlatch.ops.suppose import suppose
from nightlatch.ops.survey import survey
from nightlatch.ops.why import WhyQuestion, why
from nightlatch.origin import Kind, Origin
from nightlatch.probe.causes import causes
from nightlatch.probe.ssh import AlgorithmOffer, Identification, Methods, ProvenKey
from nightlatch.probe.stages import FailureMode, Look, Stage, Step, Target
from nightlatch.report import access as access_report
from nightlatch.report import address_book, exposure, machine, perimeter, reach, search
from nightlatch.report import compared as compared_report
from nightlatch.report import key as key_report
from nightlatch.report import password as password_report
from nightlatch.report import stolen as stolen_report
from nightlatch.report import supposed as supposed_report
from nightlatch.report import why as why_report
from tests.guests import KEYS, Guest, pub

HERE = Path(__file__).parent / "documents"
AT = datetime(2026, 11, 25, 12, tzinfo=UTC)
# What is another each time: days of the sample's tables, digests of what it writes with them, the host key that two guests share.
VARIES = [
    (re.compile(r"taken \d{4}-\d\d-\d\d"), "taken DAY"),
    (re.compile(r'"[0-9a-f]{64}"'), '"DIGEST"'),
    (re.compile(r'"text": "SHA256:[^"]{43}"'), '"text": "SHA256:HOST KEY"'),
]


@pytest.fixture(scope="module")
def estate(tmp_path_factory: pytest.TempPathFactory) -> Estate:
    home = tmp_path_factory.mktemp("documents") / "skerry"
    build(home)
    os.chdir(home)
    return load_estate(Path("estate.yaml"))


@pytest.fixture(autouse=True, scope="module")
def back() -> Any:
    here = Path.cwd()
    yield
    os.chdir(here)


def of_audit(estate: Estate) -> dict[str, Any]:
    return audit(estate, AT, jobs=1).to_dict()


def of_draft(estate: Estate) -> dict[str, Any]:
    proved: list[ProvedDraft] = []
    refused: dict[str, str] = {}
    for each in survey(estate):
        assert each.snapshot is not None
        try:
            proved.append(prove(estate, draft(estate, each.snapshot, AT), each.snapshot, AT))
        except RefusedError as error:
            refused[each.guest] = error.words
    return machine.drafts(estate.name, proved, refused, {})


def of_access(estate: Estate) -> dict[str, Any]:
    return access_report.document(access(estate, AT))


def of_why(estate: Estate) -> dict[str, Any]:
    question = WhyQuestion("joon", "plotter")
    return why_report.document(why(estate, AT, question, symptom=Symptom.ASKS_PASSWORD))


def of_stolen(estate: Estate) -> dict[str, Any]:
    key = parse_public((KEYS / "mara-desk.pub").read_bytes()).fingerprint
    return stolen_report.document(stolen(estate, AT, key, places=("bench",)))


def of_supposed(estate: Estate) -> dict[str, Any]:
    found = suppose(estate, AT, ["person tove leaves", "line /etc/ssh/sshd_config.d/50-image.conf:2 of gate is gone"])
    return supposed_report.document(found, found.changes.ways)


def of_compared(estate: Estate) -> dict[str, Any]:
    for number, days in enumerate(("", "PermitRootLogin no\n")):
        guest = Guest(days, {"mara": pub("mara-desk")} if number else {}).snapshot()
        write_evidence(guest, Path(f"{number}.evidence.tar.gz"), AT)
    return compared_report.document(compare_targets(Path("0.evidence.tar.gz"), Path("1.evidence.tar.gz"), AT))


def of_exposure(estate: Estate) -> dict[str, Any]:
    return exposure.document(exposure_of(estate, AT))


def of_addresses(estate: Estate) -> dict[str, Any]:
    return address_book.document(addresses(estate, AT, place="bench", propose=True))


def of_interfaces(estate: Estate) -> dict[str, Any]:
    return address_book.interfaces_document(addresses_target("images/gauge", AT))


def of_perimeter(estate: Estate) -> dict[str, Any]:
    return perimeter.document(draft_perimeter(estate, AT))


def of_checks(estate: Estate) -> dict[str, Any]:
    return machine.checks()


def of_pending(estate: Estate) -> dict[str, Any]:
    waiting = Pending("gauge", "20261125-120000-abcdef", "mara@desk", "on-the-latch", 20, 100, True)
    return machine.pending(
        [
            ("gauge", LatchReport(waiting, (("20261124-090000-012345", "kept by mara@desk"),))),
            ("gate", "no connection comes in"),
            ("plotter", LatchReport(None, ())),
        ]
    )


def a_look(**more: Any) -> Look:
    key = parse_public((KEYS / "mara-desk.pub").read_bytes())
    return Look(
        Target("192.168.56.21", accounts=("keeper",), pins=(key.fingerprint,)),
        (Step(Stage.CONNECT, 0.004, "192.168.56.21 port 22"), Step(Stage.METHODS, 0.02, "keeper: publickey")),
        addresses=("192.168.56.21",),
        address="192.168.56.21",
        here="192.168.40.7",
        identified=Identification("SSH-2.0-OpenSSH_9.2p1"),
        offered=AlgorithmOffer(("curve25519-sha256",), ("ssh-ed25519",), ("aes256-ctr",), ("hmac-sha2-256",)),
        keys=(ProvenKey(key, "curve25519-sha256", "ssh-ed25519"),),
        methods=(Methods("keeper", ("publickey",)),),
        **more,
    )


def of_look(estate: Estate) -> dict[str, Any]:
    return {"format": "nightlatch/look/1", **reach.look_document(a_look())}


def of_reach(estate: Estate) -> dict[str, Any]:
    granted = Origin("estate.yaml", 20, 5, Kind.ESTATE)
    shut = Look(
        Target("192.168.56.22"),
        (Step(Stage.CONNECT, 0.001, "refused"),),
        Stage.CONNECT,
        FailureMode.REFUSED,
        "192.168.56.22",
    )
    other = Look(
        Target("192.168.56.21", 4711, ("joon",), service="tide"),
        here="192.168.40.7",
        answered="tide 1 gauge",
        asks=(RequestedProof("joon", ("password",)),),
    )
    stand = GrantStanding("mara", "mara", "the key mara-desk", "bench", GrantState.OFFERED, granted, "a key")
    gauge = GuestReach(
        "gauge",
        a_look(),
        stands=(stand,),
        others=(OtherService("tide", other, (stand,)),),
        against="kept/gauge.evidence.tar.gz",
    )
    guests = (
        gauge,
        GuestReach("gate", shut, causes=causes(shut)),
        GuestReach("chartbox", problem="no address is known"),
    )
    return reach.document(Reach("Skerry Point", AT, guests, (("192.168.40.7", "bench"),)))


def of_find(estate: Estate) -> dict[str, Any]:
    sign = Sign("a neighbour has its hardware address", Origin("neighbours", kind=Kind.LISTING), True)
    found = SoughtAddress("192.168.56.133", (sign,), SearchVerdict.CONFIRMED, a_look())
    return search.document(SearchResult("gauge", "gauge", ("52:54:00:00:56:21",), (found,), 12, ("isle: too large",)))


def of_keys(estate: Estate) -> dict[str, Any]:
    line = pub("mara-desk").encode() + b"\n"
    Path("listed").write_bytes(line + b'from="192.0.2.0/24" ' + line)
    Path("listed").chmod(0o644)
    return key_report.inspected_document([inspect_key(Path("listed"), AT)])


def of_password(estate: Estate) -> dict[str, Any]:
    return password_report.document(judge_password("mara-4411", AT, "mara", estate=estate, guest="gate"))


MAKERS: dict[str, Callable[[Estate], dict[str, Any]]] = {
    "audit": of_audit,
    "draft": of_draft,
    "access": of_access,
    "why": of_why,
    "stolen": of_stolen,
    "supposed": of_supposed,
    "compared": of_compared,
    "exposure": of_exposure,
    "addresses": of_addresses,
    "interfaces": of_interfaces,
    "perimeter": of_perimeter,
    "checks": of_checks,
    "pending": of_pending,
    "look": of_look,
    "reach": of_reach,
    "find": of_find,
    "keys": of_keys,
    "password": of_password,
}


@pytest.mark.parametrize("name", MAKERS)
def test_the_document_is_as_it_stands_there(name: str, estate: Estate) -> None:
    text = machine.dumps(MAKERS[name](estate)) + "\n"
    for pattern, word in VARIES:
        text = pattern.sub(word, text)
    path = HERE / f"{name}.json"
    if os.environ.get("WRITE_DOCUMENTS"):
        path.write_text(text)
    assert json.loads(text) == json.loads(path.read_text())
    assert text == path.read_text()


def test_every_format_has_one() -> None:
    page = (Path(__file__).parent.parent / "docs/json.md").read_text()
    told = set(re.findall(r"^#+ .*?nightlatch/(\w+)/", page, re.MULTILINE)) | {"look", "interfaces"}
    assert told - {"evidence", "change"} == set(MAKERS)
    for name in MAKERS:
        assert json.loads((HERE / f"{name}.json").read_text())["format"] in page
