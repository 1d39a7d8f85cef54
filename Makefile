# Everything runs in a .venv of its own; the first call makes it, with no more in it than the call needs.
PYTHON ?= python3
BIN := .venv/bin
CORES := $(shell $(PYTHON) -c 'import os; print(os.cpu_count() or 1)')
ONE_BY_ONE := --dist load --maxschedchunk 1 # the long tests come first, and none waits behind another
INSTALL := $(BIN)/pip install --quiet --disable-pip-version-check --constraint constraints.txt --editable
RUNTIME := .venv/.runtime
TESTS := .venv/.tests
DRAWING := .venv/.drawing

.PHONY: help demo test lint types docs soak bench screenshots clean

help:
	@echo 'make demo         four days of the buoys of Halvorsund (in build/demo)'
	@echo 'make test         lint, types, documentation and tests; the draws are the same each time'
	@echo 'make docs         the documentation (in build/docs)'
	@echo 'make soak         invariants, kills and fuzz targets with new draws, for 20 minutes: make soak SOAK=8h'
	@echo 'make bench        speed against SQL by hand, written to docs/benchmarks/'
	@echo 'make screenshots  the pictures in docs/screenshots/'

$(RUNTIME): pyproject.toml constraints.txt
	@$(PYTHON) -c 'import sys; sys.exit(sys.version_info < (3, 11) and "Brenvik needs Python 3.11 or later; say make PYTHON=python3.12")'
	$(PYTHON) -m venv .venv
	$(INSTALL) .
	touch $(RUNTIME)

$(TESTS): $(RUNTIME)
	$(INSTALL) '.[test,docs]'
	touch $(TESTS)

$(DRAWING): $(TESTS)
	$(INSTALL) '.[test,docs,drawing]'
	touch $(DRAWING)

demo: $(RUNTIME)
	rm -rf build/demo
	$(BIN)/brenvik demo build/demo

test: lint types docs
	$(BIN)/pytest --numprocesses $(CORES) $(ONE_BY_ONE)

lint: $(TESTS)
	$(BIN)/ruff check src tests benchmarks examples tools docs
	$(BIN)/ruff format --check src tests benchmarks examples tools docs

types: $(TESTS)
	$(BIN)/mypy

docs: $(TESTS)
	$(BIN)/sphinx-build --fail-on-warning --quiet --jobs $(CORES) docs build/docs

soak: $(TESTS)
	$(BIN)/python tests/soak.py $(or $(SOAK),20m)

bench: $(DRAWING)
	$(BIN)/python benchmarks/run.py
	$(BIN)/python benchmarks/warehouse.py
	$(BIN)/python benchmarks/lakehouse.py
	$(BIN)/python benchmarks/reading.py
	$(BIN)/python benchmarks/rules.py

screenshots: $(DRAWING)
	$(BIN)/python tools/screenshots.py

clean:
	rm -rf .venv build .pytest_cache .mypy_cache .ruff_cache .hypothesis
