"""One station for each test module that asks for it; everything is cleared away, whatever happens."""

from __future__ import annotations

from collections.abc import Iterator
from pathlib import Path

import pytest

from nightlatch.lab.labs import Lab
from tests.live.station import Station


@pytest.fixture(scope="module")
def station(tmp_path_factory: pytest.TempPathFactory) -> Iterator[Station]:
    """A lab with networks and an administrator's desk; the module adds guests."""
    with Lab() as lab:
        made = Station(lab, Path(tmp_path_factory.mktemp("station")))
        yield made
        made.close()
