# Two commands: `make demo` and `make test`. Each sets up what it needs.

PYTHON ?= python3
VENV := .venv
# One more than CI has cores: now and then a test waits for servers.
WORKERS ?= 3
ifeq ($(OS),Windows_NT)
BIN := $(VENV)/Scripts
else
BIN := $(VENV)/bin
endif

# Once for all runs, also where Python was told to keep nothing of it: that is half of the time in which a command begins.
COMPILE := $(BIN)/python -m compileall -q src

.PHONY: demo test directory deep lowest coverage check bench screenshots reference man format clean

demo: $(VENV)/run.stamp
	@$(COMPILE)
	@$(BIN)/salt-mirror demo

test: $(VENV)/dev.stamp
	sh tools/real-servers.sh
	[ ! -e /usr/include/ldap.h ] || $(BIN)/python -m pip install --quiet --editable '.[directory]'
	$(COMPILE)
	$(BIN)/python -m pytest -n $(WORKERS) --dist loadfile --no-loadscope-reorder

# A directory of three domain controllers in network namespaces: as root, with Debian's packages and both extras.
directory: $(VENV)/dev.stamp
	sh tools/directory-servers.sh
	$(BIN)/python -m pip install --quiet --editable '.[directory,kerberos]'
	$(COMPILE)
	$(BIN)/python -m pytest -m real tests/real/test_directories.py

# Every property and every seeded world with new seeds, ten times as many examples, for an hour: make deep MINUTES=60
MINUTES ?= 60
deep: $(VENV)/dev.stamp
	sh tools/real-servers.sh
	$(COMPILE)
	$(BIN)/python tools/deep.py --minutes $(MINUTES) --workers $(WORKERS)

# The tests with the lowest versions of what the metadata names.
lowest: $(VENV)/dev.stamp
	sh tools/real-servers.sh
	$(BIN)/python tools/lowest.py --workers $(WORKERS)

coverage: $(VENV)/dev.stamp
	sh tools/real-servers.sh
	$(BIN)/python tools/covered.py --workers $(WORKERS)

check: $(VENV)/dev.stamp
	$(BIN)/ruff format --check
	$(BIN)/ruff check
	$(BIN)/mypy
	$(BIN)/mypy --platform win32
	$(BIN)/mypy --platform darwin
	$(BIN)/lint-imports

format: $(VENV)/dev.stamp
	$(BIN)/ruff format
	$(BIN)/ruff check --fix

bench: $(VENV)/dev.stamp
	sh tools/real-servers.sh
	$(COMPILE)
	$(BIN)/python bench/startup.py
	$(BIN)/python bench/engine.py
	$(BIN)/python bench/pairs.py
	$(BIN)/python bench/rollcall.py
	$(BIN)/python bench/screen.py
	$(BIN)/python bench/transfer.py
	$(BIN)/python bench/audit.py
	$(BIN)/python bench/audit.py --planted
	$(BIN)/python bench/audit.py --changed
	$(BIN)/python bench/mend.py
	$(BIN)/python bench/watch.py
	$(BIN)/python bench/stale.py
	$(BIN)/python bench/directory.py
	$(BIN)/python bench/workbook.py
	$(BIN)/python bench/signed.py
	$(BIN)/python bench/rehearse.py
	$(BIN)/python bench/page.py
	$(BIN)/python bench/history.py 100
	$(BIN)/python bench/loss.py

reference: $(VENV)/dev.stamp
	$(BIN)/python tools/schema.py
	$(BIN)/python tools/checks.py
	$(BIN)/python tools/reference.py

man: reference
	man -l docs/man/salt-mirror.1 2>/dev/null || echo "docs/man/salt-mirror.1 is written"

screenshots: $(VENV)/dev.stamp
	$(BIN)/python tools/screenshots.py

$(VENV)/pip.stamp:
	@echo "A virtual environment: $(VENV)"
	@$(PYTHON) -m venv $(VENV)
	@$(BIN)/python -m pip install --quiet --upgrade "pip>=25.1"
	@touch $@

$(VENV)/run.stamp: $(VENV)/pip.stamp pyproject.toml
	@echo "Salt Mirror and the libraries that it uses (pyproject.toml), into $(VENV)"
	@$(BIN)/python -m pip install --quiet --editable .
	@touch $@

$(VENV)/dev.stamp: $(VENV)/run.stamp
	@echo "What its tests and checks use, into $(VENV)"
	@$(BIN)/python -m pip install --quiet --group dev
	@touch $@

clean:
	rm -rf $(VENV) build dist
