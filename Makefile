# Everything runs in a .venv of its own; the first call makes it.
PYTHON ?= python3
BIN := .venv/bin
READY := .venv/.ready
CORES := $(shell $(PYTHON) -c 'import os; print(os.cpu_count() or 1)')
ONE_BY_ONE := --dist load --maxschedchunk 1 # the long tests come first, and none waits behind another

.PHONY: help demo test lint types laws bench screenshots clean

help:
	@echo 'make demo         four days of the buoys of Halvorsund (in build/demo)'
	@echo 'make test         lint, types and tests (CI=true: laws along 2,000 sequences of runs, else 200)'
	@echo 'make laws         the laws alone, as long as you like: make laws LAW_EXAMPLES=20000'
	@echo 'make bench        speed against SQL by hand, written to docs/benchmarks/'
	@echo 'make screenshots  the pictures in docs/screenshots/'

$(READY): pyproject.toml constraints.txt
	@$(PYTHON) -c 'import sys; sys.exit(sys.version_info < (3, 11) and "Brenvik needs Python 3.11 or later; say make PYTHON=python3.12")'
	$(PYTHON) -m venv .venv
	$(BIN)/pip install --quiet --disable-pip-version-check --constraint constraints.txt --editable '.[dev]'
	touch $(READY)

demo: $(READY)
	rm -rf build/demo
	$(BIN)/brenvik demo build/demo

test: lint types
	$(BIN)/pytest --numprocesses $(CORES) $(ONE_BY_ONE)

lint: $(READY)
	$(BIN)/ruff check src tests benchmarks examples tools
	$(BIN)/ruff format --check src tests benchmarks examples tools

types: $(READY)
	$(BIN)/mypy

laws: $(READY)
	LAW_EXAMPLES=$(or $(LAW_EXAMPLES),20000) $(BIN)/pytest tests/laws --numprocesses $(CORES) $(ONE_BY_ONE)

bench: $(READY)
	$(BIN)/python benchmarks/run.py
	$(BIN)/python benchmarks/warehouse.py
	$(BIN)/python benchmarks/lakehouse.py

screenshots: $(READY)
	$(BIN)/python tools/screenshots.py

clean:
	rm -rf .venv build .pytest_cache .mypy_cache .ruff_cache .hypothesis
