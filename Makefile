PYTHON ?= python3
VENV := .venv
BIN := $(VENV)/bin

.PHONY: demo test test-all check fuzz docs clean

demo: $(VENV)/installed
	$(BIN)/orchard demo

test: $(VENV)/test-installed
	$(BIN)/python -m pytest

test-all: $(VENV)/test-installed
	$(BIN)/python -m pytest -m ""

docs: $(VENV)/docs-installed
	NO_MKDOCS_2_WARNING=1 $(BIN)/mkdocs build --strict --quiet

fuzz: $(VENV)/test-installed
	$(BIN)/python fuzz/all.py $(SECONDS)

check: $(VENV)/test-installed
	$(BIN)/ruff check src tests fuzz benchmarks docs
	$(BIN)/ruff format --check src tests fuzz benchmarks docs/written.py
	$(BIN)/mypy

$(VENV)/bin/python:
	$(PYTHON) -m venv $(VENV)

$(VENV)/installed: $(VENV)/bin/python pyproject.toml
	$(BIN)/python -m pip install --quiet -e .
	$(BIN)/python -m compileall -q src
	touch $@

$(VENV)/test-installed: $(VENV)/bin/python pyproject.toml
	$(BIN)/python -m pip install --quiet -e ".[test]"
	$(BIN)/python -m compileall -q src
	touch $@

$(VENV)/docs-installed: $(VENV)/bin/python pyproject.toml
	$(BIN)/python -m pip install --quiet -e ".[docs,all]"
	touch $@

clean:
	rm -rf $(VENV) build site orchard-demo
