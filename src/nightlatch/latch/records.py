"""Records of changes on the guest itself: originals and a record of each of the last ten, for root only.

They lie under /var/lib/nightlatch on the guest. `read` treats them as hostile: the guest may have changed them.
"""

from __future__ import annotations

from typing import Literal

from pydantic import BaseModel, ConfigDict, Field, ValidationError

from nightlatch import versions
from nightlatch.draft import acts
from nightlatch.faults import UnreadableError
from nightlatch.model import account_steps

HOME = "/var/lib/nightlatch"
CHANGES = f"{HOME}/changes"
LOCK = f"{HOME}/lock"
RECORD, PROMISED = "record.json", "record.part"  # of a kept change; of one on the latch
MOST_KEPT = 10
_STRICT = ConfigDict(extra="forbid", strict=True)


class PathState(BaseModel):
    """A path before or after a change."""

    model_config = _STRICT
    kind: Literal["file", "folder", "absent"]
    mode: int = Field(0, ge=0, le=0o7777)
    uid: int = Field(0, ge=0)
    gid: int = Field(0, ge=0)
    sha256: str = Field("", pattern=r"^([0-9a-f]{64})?$")
    mtime: int = 0
    attributes: dict[str, str] = Field(default_factory=dict)


class TouchedPath(BaseModel):
    """One path of a change; `copy_name` is the file in the change's folder that holds the original."""

    model_config = _STRICT
    path: str = Field(pattern=r"^/")
    before: PathState
    after: PathState
    copy_name: str = Field("", pattern=r"^([0-9]{1,4}\.before)?$")


class Record(BaseModel):
    """One change. `acts` are words of account_steps.py and acts.py, of what was done beside files; `left` the marks of what its
    draft said would stay different (draft/marks.py), `returns` the change that it takes back, so that a later `keep` can prove
    what was promised."""

    model_config = _STRICT
    format: Literal["nightlatch/change/1"]
    id: str = Field(pattern=r"^[0-9]{8}-[0-9]{6}-[0-9]{6}$")
    tool: str
    time: str
    guest: str
    steps: list[str]
    touched: list[TouchedPath]
    folders: list[str]
    acts: list[list[str]] = Field(default_factory=list)
    left: list[str] = Field(default_factory=list)
    returns: str = ""


def parse(raw: bytes, where: str) -> Record:
    """A record from its bytes; raises UnreadableError."""
    try:
        record = Record.model_validate_json(raw)
    except ValidationError as error:
        other = versions.unread("change", versions.of_json(raw) or versions.name("change"))
        if other:
            raise UnreadableError(f"{where}: {other}") from None
        first = error.errors()[0]
        raise UnreadableError(f"{where} can't be read: {'.'.join(map(str, first['loc']))}: {first['msg']}") from None
    for touched in record.touched:
        if any(part in ("", ".", "..") for part in touched.path.split("/")[1:]):
            raise UnreadableError(f"{where} names something that is no path: {touched.path!r}")
    try:
        for words in record.acts:
            (account_steps.parse if account_steps.is_account_step(words) else acts.parse)(words)
    except ValueError as error:
        raise UnreadableError(f"{where} can't be read: {error}") from None
    return record
