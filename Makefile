# make demo   the main job on the demo study      make test   all checks
# make bench  times and memory beside PyArrow     make clean  remove what these made
PYTHON ?= python3
VENV := .venv
BIN := $(VENV)/bin

.PHONY: demo test check bench clean

$(BIN)/lomrix: pyproject.toml constraints.txt
	$(PYTHON) -m venv $(VENV)
	$(BIN)/pip install --quiet --constraint constraints.txt --editable .
	@touch $@

$(VENV)/tested: $(BIN)/lomrix
	$(BIN)/pip install --quiet --constraint constraints.txt --editable '.[test]'
	@touch $@

demo: $(BIN)/lomrix
	PATH="$(CURDIR)/$(BIN):$$PATH" sh examples/kittiwake.sh

test: $(VENV)/tested
	$(BIN)/ruff check src tests bench
	$(BIN)/ruff format --check src tests bench
	$(BIN)/mypy
	$(BIN)/lint-imports
	$(BIN)/pytest -n auto

bench: $(VENV)/tested
	$(BIN)/python bench/run.py

clean:
	rm -rf $(VENV) demo bench/work
