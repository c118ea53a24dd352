# Everything a person needs: `make demo`, `make test`.  Each makes the environment it needs.
PYTHON ?= python3
VENV ?= .venv
BIN := $(VENV)/bin

.PHONY: demo test fuzz lint types contracts check bench bench-all guard mutants screenshots schema reference site packages clean

$(VENV)/.ready: pyproject.toml
	$(PYTHON) -m venv $(VENV)
	$(BIN)/python -m pip install --quiet --disable-pip-version-check --no-compile -e '.[dev]'
	touch $@

demo: $(VENV)/.ready
	$(BIN)/concordex demo

# Frames in tests are small, and four workers share the processors: a thread each is quicker.  The tests start many
# processes, which find their modules compiled.
test: $(VENV)/.ready
	POLARS_MAX_THREADS=1 PYTHONDONTWRITEBYTECODE= $(BIN)/python -m pytest -n 4 --dist worksteal

# Whatever may be typed, answered and written into a workspace, for about an hour; it tells what is an error of our own.
fuzz: $(VENV)/.ready
	CONCORDEX_FUZZ=9000 $(BIN)/python -m pytest tests/stories/test_mistakes.py -k whatever

lint: $(VENV)/.ready
	$(BIN)/ruff check src tests benchmarks docs
	$(BIN)/ruff format --check src tests benchmarks docs

types: $(VENV)/.ready
	$(BIN)/mypy

contracts: $(VENV)/.ready
	$(BIN)/lint-imports

check: lint types contracts test

# How strong the tests are: a sample of small faults, for about an hour.
mutants: $(VENV)/.ready
	$(BIN)/python -m pip install --quiet --disable-pip-version-check -e '.[mutants]'
	$(BIN)/python benchmarks/mutants.py

# What guards the speed: counts that are the same on every machine.
guard: $(VENV)/.ready
	$(BIN)/python benchmarks/guard.py

# In under ten minutes; the rest with `make bench-all`, in an hour.
bench: $(VENV)/.ready
	$(BIN)/python -m pip install --quiet --disable-pip-version-check -e '.[bench]'
	$(BIN)/python benchmarks/run.py start pull details systems show
	$(BIN)/python benchmarks/concordance.py quick
	$(BIN)/python benchmarks/writes.py quick
	$(BIN)/python benchmarks/objects.py

bench-all: bench
	$(BIN)/python benchmarks/run.py million twelve
	$(BIN)/python benchmarks/concordance.py
	$(BIN)/python benchmarks/writes.py
	$(BIN)/python benchmarks/large.py
	$(BIN)/python benchmarks/runners.py
	$(BIN)/python benchmarks/night.py
	$(BIN)/python benchmarks/fleet.py

schema: $(VENV)/.ready
	$(BIN)/concordex dialect schema > src/concordex/dialects/dialect.schema.json
	for name in workspace rulings group versions; do $(BIN)/concordex schema $$name > docs/schemas/$$name.schema.json; done

reference: $(VENV)/.ready
	$(BIN)/python docs/reference.py > docs/api.md
	$(BIN)/python docs/commands.py docs

# The documentation as a site, in build/site; a link that leads nowhere is an error.
site: $(VENV)/.ready
	$(BIN)/python -m pip install --quiet --disable-pip-version-check -e '.[site]'
	$(BIN)/mkdocs build --strict --quiet

# Wheel and sdist, installed without extras on every Python that is here.
packages: $(VENV)/.ready
	$(BIN)/python -m pip install --quiet --disable-pip-version-check -e '.[packages]'
	.ci/packages

screenshots: site
	PATH="$(CURDIR)/$(BIN):$$PATH" sh docs/screenshots/take.sh

clean:
	rm -rf $(VENV) .mypy_cache .ruff_cache .pytest_cache .hypothesis build dist concordex-demo*
