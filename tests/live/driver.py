"""An administrator's process at the desk: enact with a seam in the guest's script, told by arguments; killed by tests.

usage: python -m tests.live.driver ESTATE GUEST SECONDS SEAM-FILE
"""

from __future__ import annotations

import sys
from datetime import UTC, datetime
from pathlib import Path

from nightlatch.estate.load import load as load_estate
from nightlatch.faults import NightlatchError
from nightlatch.latch.folder import new_change_id
from nightlatch.ops.draft import draft, prove
from nightlatch.ops.enact import put_on_latch, terms
from nightlatch.ops.survey import survey_live
from nightlatch.transports import targets
from nightlatch.transports.ssh import Client


def main(estate_path: str, guest: str, seconds: int, seam: str) -> int:
    at = datetime.now(UTC)
    estate = load_estate(Path(estate_path))
    with Client() as client:
        shell = targets.of_guest(estate.guests[guest], client)
        snapshot = survey_live(shell)
        proved = prove(estate, draft(estate, snapshot, at), snapshot, at)
        change = new_change_id(at)
        print(f"change {change}", flush=True)
        try:
            on = terms(at, change, seconds, seam=Path(seam).read_text())
            done = put_on_latch(estate, shell, proved, at, on)
        except NightlatchError as error:
            print(f"{type(error).__name__}: {error}", flush=True)
            return error.exit_code
        print(done.outcome, flush=True)
    return 0


if __name__ == "__main__":
    sys.exit(main(sys.argv[1], sys.argv[2], int(sys.argv[3]), sys.argv[4]))
