"""Predicted logins against real ones of a real sshd: each reason for denial both ways, and random mixtures."""

from __future__ import annotations

import json
import os
import subprocess
import sys
from collections import Counter
from concurrent.futures import ThreadPoolExecutor
from pathlib import Path

import pytest

from tests.budget import ALL, cases

SEED = int(os.environ.get("NIGHTLATCH_SEED", "20261125"))
MIXTURES = int(os.environ.get("NIGHTLATCH_MIXTURES", cases(40, 400)))
DRAFTS = int(os.environ.get("NIGHTLATCH_DRAFTS", cases(12, 100)))
ROOT = Path(__file__).parents[2]


def drive(act: str, work: Path, part: int, count: int) -> list[dict[str, object]]:
    work.mkdir()
    words = [
        "unshare",
        "--mount",
        "--net",
        "--pid",
        "--fork",
        "--kill-child",
        "--mount-proc",
        "--propagation",
        "private",
    ]
    words += [sys.executable, "-m", "tests.judges.login_driver", act, str(work), str(part), "2", str(SEED), str(count)]
    done = subprocess.run(words, capture_output=True, text=True, cwd=ROOT, timeout=600 if not ALL else 6000)
    assert done.returncode == 0, done.stderr[-3000:]
    return [json.loads(line) for line in done.stdout.splitlines()]


@pytest.mark.judge("sshd", "ssh", "unshare", "ip", "openssl", root=True)
def test_predicted_logins_are_the_real_ones(tmp_path: Path) -> None:
    with ThreadPoolExecutor(2) as pool:
        parts = pool.map(lambda n: drive("predict", tmp_path / f"part{n}", n, MIXTURES), (0, 1))
        results = [r for part in parts for r in part]
    count: Counter[str] = Counter("let in" if r["real"] else "rejected" for r in results)
    count["undecided"] = sum(r["said"] == "undecided" for r in results)
    print(f"\nseed {SEED}: {len(results)} real logins, " + ", ".join(f"{n} {c}" for n, c in sorted(count.items())))
    wrong = [r for r in results if r["said"] not in ("undecided", "yes" if r["real"] else "no")]
    text = "\n".join(f"{r['scene']} (PAM {r['pam']}): {r['try']}: said {r['said']}, was {r['real']}\n{r['log']}" for r in wrong)
    assert not wrong, f"{len(wrong)} of {len(results)} wrong\n{text[:6000]}"
    apart = [f"{r['scene']} (PAM {r['pam']}): {r['try']}: {r['links']}" for r in results if r["links"]]
    assert not apart, f"{len(apart)} of {len(results)} taken apart wrongly\n" + "\n".join(apart)[:6000]
    assert len(results) >= 200
    assert not count["undecided"], [r["scene"] for r in results if r["said"] == "undecided"]


@pytest.mark.judge("sshd", "ssh", "unshare", "ip", "openssl", root=True)
def test_enacted_drafts_let_in_just_whom_the_grants_name(tmp_path: Path) -> None:
    with ThreadPoolExecutor(2) as pool:
        parts = pool.map(lambda n: drive("draft", tmp_path / f"part{n}", n, DRAFTS), (0, 1))
        results = [r for part in parts for r in part]
    wrong = [r for r in results if r["real"] != r["should"] and not r["excused"]]
    granted = [r for r in results if r["should"]]
    served = sum(bool(r["real"]) for r in granted)
    print(f"\nseed {SEED}: {len(results)} real logins on {DRAFTS} enacted drafts, {served} of {len(granted)} granted ones let in")
    text = "\n".join(f"{r['scene']}: {r['try']}: should {r['should']}, was {r['real']}\n{r['steps']}\n{r['log']}" for r in wrong)
    if os.environ.get("NIGHTLATCH_SHOW_LEFT"):
        print("\n".join(f"{r['scene']} {r['try']}: {r['left']}" for r in granted if r["excused"]))
    assert not wrong, f"{len(wrong)} of {len(results)} wrong\n{text[:6000]}"
    assert served > len(granted) / 2
