# Every target sets up what it needs on a fresh Debian machine that has python3 (3.11+, venv) and make.
PY     ?= python3
VENV   := .venv
BIN    := $(VENV)/bin
STAMP  := $(VENV)/.set-up
SHOTS  := docs/screenshots

.PHONY: setup demo test check operations gallery knowledge bench calibrate projections faults fuzz mutants schemas helpfiles shots terminal-tools lab lab-tests lab-tools format clean

setup: $(STAMP)

$(STAMP): pyproject.toml constraints.txt
	@$(PY) -c 'import sys; sys.exit(sys.version_info < (3, 11))' || { echo "Lumtak needs Python 3.11 or newer; name one with: make PY=python3.12"; exit 1; }
	@$(PY) -c 'import venv, ensurepip' 2>/dev/null || { echo "Python's venv module is missing; run: sudo apt-get install -y python3-venv"; exit 1; }
	$(PY) -m venv $(VENV)
	$(BIN)/python -m pip install --quiet --disable-pip-version-check -c constraints.txt -e '.[dev]'
	@touch $(STAMP)

demo: setup
	@$(BIN)/lumtak demo

# Debian packages that the tests of the real interface and of the undo script need; installed when we may, else the one command is said.
terminal-tools:
	@scripts/need-packages.sh tmux shellcheck busybox dash dbus-daemon dbus-bin bsdutils procps qpdf

# A desktop that runs at a display without a monitor, and what others keep their settings by.
DESKTOPS := xvfb dbus-daemon xfce4-session xfwm4 xfconf xfce4-settings xfce4-panel thunar xfce4-notifyd xfce4-power-manager \
	libglib2.0-bin dconf-cli dconf-gsettings-backend gsettings-desktop-schemas gnome-settings-daemon-common nautilus-data \
	marco-common caja-common mate-desktop-common mate-panel-common mate-notification-daemon-common mate-power-manager-common \
	cinnamon-common cinnamon-desktop-data nemo-data

# What boots a real Debian for `make lab` and `make lab-tests`.
lab-tools:
	-@scripts/need-packages.sh mmdebstrap user-mode-linux e2fsprogs openssh-client iproute2 procps kmod util-linux
	-@scripts/need-packages.sh clamav-daemon
	-@scripts/need-packages.sh $(DESKTOPS)

# A shell on a really booted, slow computer with Lumtak in it; everything there is thrown away afterwards.
lab: setup lab-tools
	@$(BIN)/python tests/lab/booted.py

# On really booted computers: the whole job over restarts, power cuts, odd names, refusals; on real desktops. About fifteen minutes; root and /dev/net/tun.
lab-tests: setup lab-tools
	$(BIN)/python -m pytest -m lab

# Side by side, one more at a time than there are processors: many of them wait for a terminal. A single file: .venv/bin/python -m pytest FILE
test: setup terminal-tools
	$(BIN)/python -m pytest -m 'not lab' -n $(shell expr $$(nproc) + 1) --dist worksteal

# Sheets, reports and charts of all made-up computers, in every language, into gallery/ (poppler-utils draws the pages).
gallery: setup
	-@scripts/need-packages.sh poppler-utils
	@$(BIN)/python scripts/gallery.py gallery

check: setup
	$(BIN)/ruff check .
	$(BIN)/ruff format --check .
	$(BIN)/mypy
	$(BIN)/lint-imports
	$(BIN)/python scripts/limits.py
	$(BIN)/python scripts/tidy.py
	$(BIN)/python scripts/sent.py
	$(BIN)/python scripts/operations.py --check

# How well items of real desktops are known; another list: make knowledge ITEMS=FILE.csv
knowledge: setup
	@$(BIN)/python scripts/knowledge.py $(ITEMS)

bench: setup
	@$(BIN)/python scripts/bench.py

shots: setup
	@scripts/need-packages.sh xvfb kitty tmux imagemagick xdotool x11-utils libgl1-mesa-dri fonts-dejavu-core poppler-utils
	@$(BIN)/python scripts/shots.py $(SHOTS)

calibrate: setup
	@$(BIN)/python scripts/calibrate.py

# Plans of every simulated computer carried out on 50 seeds: how often the projection holds; about five minutes.
projections: setup
	@$(BIN)/python scripts/projections.py

faults: setup terminal-tools
	@$(BIN)/python scripts/faults.py

# Hostile input of every kind, in process and from a seed: `make fuzz INPUTS=100000 SEED=3 KINDS="profiles journals"`.
fuzz: setup
	@$(BIN)/python scripts/fuzz.py $(KINDS) $(if $(INPUTS),--inputs $(INPUTS)) $(if $(SEED),--seed $(SEED))

# Small mistakes put into the heart one at a time, and which of them no test notices; about ten minutes.
mutants: setup
	@$(BIN)/python scripts/mutants.py

# The man page, and what completion offers, from the help of every command.
helpfiles: setup
	@$(BIN)/python scripts/helpfiles.py

# The client's types and the page of operations, from the table of operations.
operations: setup
	@$(BIN)/python scripts/operations.py

schemas: setup
	@$(BIN)/python scripts/schemas.py docs/schemas

format: setup
	$(BIN)/ruff check --fix-only --quiet .
	$(BIN)/ruff format --quiet .

clean:
	rm -rf $(VENV) .pytest_cache .mypy_cache .ruff_cache .hypothesis
