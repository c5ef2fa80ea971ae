PYTHON ?= python3
VENV := .venv
BIN := $(VENV)/bin

.PHONY: demo test check fuzz clean

demo: $(VENV)/installed
	$(BIN)/orchard demo

test: $(VENV)/test-installed
	$(BIN)/python -m pytest

fuzz: $(VENV)/test-installed
	$(BIN)/python fuzz/all.py $(SECONDS)

check: $(VENV)/test-installed
	$(BIN)/ruff check src tests fuzz benchmarks
	$(BIN)/ruff format --check src tests fuzz benchmarks
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
