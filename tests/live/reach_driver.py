"""reach with the tide line in the table of services, as JSON and then as text; for the desk's namespace.

usage: python -m tests.live.reach_driver ESTATE [EVIDENCE]
"""

from __future__ import annotations

import sys
from datetime import UTC, datetime
from pathlib import Path

from nightlatch.estate.load import load as load_estate
from nightlatch.model.services import SERVICES
from nightlatch.ops.reach import reach as reach_guests
from nightlatch.report import machine, page, reach
from nightlatch.services.ssh.kind import SSH
from nightlatch.services.table import table
from tests.tide import TIDE, Tide


def main(estate_path: str, evidence: str = "") -> None:
    estate = load_estate(Path(estate_path), (*SERVICES, TIDE))
    kept = Path(evidence) if evidence else None
    result = reach_guests(estate, datetime.now(UTC), evidence=kept, kinds=table([SSH, Tide()]))
    print(machine.dumps(reach.document(result)))
    print("---")
    reach.text(page.Page(page.console()), result)


if __name__ == "__main__":
    main(*sys.argv[1:])
