# Everything a newcomer or a machine needs: `make demo`, `make test`.
PYTHON ?= python3
VENV := .venv
BIN := $(VENV)/bin

.PHONY: demo test quick compiled judges lint types unit bench screenshots packages clean

$(VENV)/.installed: pyproject.toml
	$(PYTHON) -c 'import sys; sys.exit("Nightlatch needs Python 3.11 or newer, this is " + sys.version.split()[0]) if sys.version_info < (3, 11) else None'
	test -x $(BIN)/python || $(PYTHON) -m venv $(VENV)
	$(BIN)/python -m pip install --quiet --disable-pip-version-check -e .
	touch $@

$(VENV)/.installed-test: $(VENV)/.installed
	$(BIN)/python -m pip install --quiet --disable-pip-version-check -e '.[test]'
	touch $@

demo: $(VENV)/.installed
	$(BIN)/nightlatch demo

packages:
	sh tools/system-packages.sh
	sh tools/release-tree.sh
	sh tools/unpacked-programs.sh directory sssd-common sssd-ldap libnss-sss libpam-sss slapd
	sh tools/unpacked-programs.sh screens xrdp xorgxrdp tigervnc-standalone-server tigervnc-scraping-server tigervnc-tools x11vnc \
		xvfb xserver-xorg-core openbox xterm xauth x11-utils dbus-user-session xfonts-base freerdp2-x11

test: $(VENV)/.installed-test packages lint types unit

lint: $(VENV)/.installed-test
	$(BIN)/ruff check src tests benchmarks tools
	$(BIN)/ruff format --check src tests benchmarks tools

types: $(VENV)/.installed-test
	$(BIN)/mypy

unit: compiled
	$(BIN)/pytest

# Everything that needs neither a guest nor a real program.
quick: compiled
	$(BIN)/pytest --ignore tests/live --ignore tests/judges

# Tests start hundreds of commands, and each would compile what it imports where Python is told to write no bytecode.
compiled: $(VENV)/.installed-test
	$(BIN)/python -m compileall -q src

# Every class of attack at every step, and ten times as many generated cases; `make test` keeps a sample of each.
judges: $(VENV)/.installed-test packages
	NIGHTLATCH_CASES=all NIGHTLATCH_REQUIRE_JUDGES=1 $(BIN)/pytest tests/judges tests/live/test_titles.py tests/live/test_races.py \
		tests/live/test_lets_go.py tests/live/test_killed_scripts.py tests/live/test_lost_connections.py tests/live/test_power_cuts.py \
		tests/live/test_managers.py

bench: $(VENV)/.installed-test packages
	$(BIN)/python benchmarks/run.py

screenshots: $(VENV)/.installed-test
	sh tools/screenshots.sh

clean:
	rm -rf $(VENV) build dist .pytest_cache .mypy_cache .ruff_cache .hypothesis
