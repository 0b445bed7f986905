# Each target sets up what it needs: a .venv in this folder, from pyproject.toml and constraints.txt.
PYTHON ?= python3
VENV := .venv
BIN := $(VENV)/bin
READY := $(VENV)/.ready

.PHONY: demo test check lint peers bench instructions fleet-bench screenshots docs live fuzz mutants clean

demo: $(READY)
	$(BIN)/filigree demo --into stations

# More at once than there are processors: some of what tests take is waiting. What a file sets up is set up once.
WORKERS ?= $(shell echo $$(($$(nproc) * 2)))
# Hundreds of programs are started: each finds itself compiled, as an installation leaves it.
COMPILED := PYTHONDONTWRITEBYTECODE= PYTHONPYCACHEPREFIX=$(CURDIR)/$(VENV)/compiled

test: $(READY)
	$(COMPILED) $(BIN)/python -m pytest -n $(WORKERS) --dist loadfile --no-loadscope-reorder -p no:cacheprovider

check: lint test instructions peers

lint: $(READY)
	$(BIN)/ruff check src tests benchmarks fuzzing tools
	$(BIN)/ruff format --check src tests benchmarks fuzzing tools
	$(BIN)/mypy
	$(BIN)/lint-imports

# Against programs of others: those that are not there are told as skipped. Debian calls them umoci, skopeo, chromium.
peers: $(READY) .peers/.ready
	$(COMPILED) $(BIN)/python -m pytest -m peers -rs tests/peers

# A cluster and an object server, in an environment of their own; the client of the former, and what
# drives a browser.
.peers/.ready: pyproject.toml peers.txt
	$(PYTHON) -m venv .peers
	.peers/bin/python -m pip install --quiet --disable-pip-version-check -r peers.txt
	$(BIN)/python -m pip install --quiet --disable-pip-version-check -c constraints.txt -e '.[cluster,browser]'
	touch $@

# Ratios against the budgets, on this machine's own packages and on a made-up system ten times larger.
bench: $(READY)
	$(BIN)/python benchmarks/run.py --whole-system --growth --containers --mirror --index --files --texts --images --paths 8000000 --strays 100000,1000000

# How many instructions small questions take, held against what is kept; needs valgrind.
instructions: $(READY)
	$(BIN)/python benchmarks/instructions.py

# A fleet of 100, 1,000 and 10,000 made-up hosts, also of a cluster, and a year of a hundred: an hour.
fleet-bench: $(READY) .peers/.ready
	$(BIN)/python benchmarks/fleet.py --days 365 --cluster

# Needs Xvfb, xterm and ImageMagick's import.
screenshots: $(READY)
	$(BIN)/filigree demo --into stations --build-only
	PATH="$(CURDIR)/$(BIN):$$PATH" docs/screenshots/take
	$(BIN)/python -m tools.recording stations docs/recordings

# The page that says what each answer rests on, and the picture of the rooms, from what the code declares.
docs: $(READY)
	$(BIN)/python -m filigree.views.families_page > docs/families.md
	$(BIN)/python -m filigree.views.rules_page > docs/findings.md
	$(BIN)/python -m filigree.views.fleet_page > docs/fleet.md
	$(BIN)/python -m tools.manual docs/man
	$(BIN)/python -m tools.rooms --write

# Every file of this machine against coreutils, where it is a deb system.
live: $(READY)
	$(BIN)/python -m pytest -m whole

# How many of 300 random changes to the core the tests notice: some half an hour.
mutants: $(READY)
	$(BIN)/python -m pip install --quiet --disable-pip-version-check -c constraints.txt -e '.[mutants]'
	PYTHONPATH=$(CURDIR) $(BIN)/python tools/mutants.py --sample 300 --minutes 40

# Long runs of the property tests, and a million inputs for the readers, guided by coverage.
fuzz: $(READY)
	$(BIN)/python -m pip install --quiet --disable-pip-version-check -c constraints.txt -e '.[fuzz]'
	$(BIN)/python fuzzing/run.py
	HYPOTHESIS_PROFILE=long $(BIN)/python -m pytest -o faulthandler_timeout=0 tests/formats tests/views tests/test_fuzz.py \
		tests/questions/test_local_policy.py

$(READY): pyproject.toml constraints.txt
	$(PYTHON) -m venv $(VENV)
	$(BIN)/python -m pip install --quiet --disable-pip-version-check -c constraints.txt -e '.[dev]'
	touch $(READY)

clean:
	rm -rf $(VENV) .peers stations .pytest_cache .mypy_cache .ruff_cache .hypothesis .import_linter_cache
