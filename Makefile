PYTHON ?= python3
VENV := .venv
BIN := $(VENV)/bin

.PHONY: demo test check clean

demo: $(VENV)/installed
	$(BIN)/orchard demo

test: $(VENV)/test-installed
	$(BIN)/python -m pytest

check: $(VENV)/test-installed
	$(BIN)/ruff check src tests benchmarks
	$(BIN)/ruff format --check src tests benchmarks
	$(BIN)/mypy

$(VENV)/bin/python:
	$(PYTHON) -m venv $(VENV)

$(VENV)/installed: $(VENV)/bin/python pyproject.toml
	$(BIN)/python -m pip install --quiet -e .
	touch $@

$(VENV)/test-installed: $(VENV)/bin/python pyproject.toml
	$(BIN)/python -m pip install --quiet -e ".[test]"
	touch $@

clean:
	rm -rf $(VENV) build orchard-demo
