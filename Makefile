# make demo   the main job on the demo study      make test   all checks
# make expected   the expected-output files anew; review what differs
# make docs   docs/commands.md, docs/lomrix.1 and what --help shows, from the commands themselves
# make bench  times and memory beside PyArrow     make clean  remove what these made
# make mutants FOLDER=core/rows   change the folder in small ways, one at a time, and list what no test notices
PYTHON ?= python3
VENV := .venv
BIN := $(VENV)/bin

FOLDER ?= core
MUTANTS := mutants/tree

.PHONY: demo test style types tests expected bench mutants docs clean

$(BIN)/lomrix: pyproject.toml constraints.txt
	$(PYTHON) -m venv $(VENV)
	$(BIN)/pip install --quiet --constraint constraints.txt --editable .
	@touch $@

$(VENV)/tested: $(BIN)/lomrix
	$(BIN)/pip install --quiet --constraint constraints.txt --editable '.[test]'
	@touch $@

demo: $(BIN)/lomrix
	PATH="$(CURDIR)/$(BIN):$$PATH" sh examples/kittiwake.sh

# The types are looked at beside the tests, since they take one processor only.
test: $(VENV)/tested style
	$(MAKE) --no-print-directory --jobs 2 types tests

style: $(VENV)/tested
	$(BIN)/ruff check src tests bench
	$(BIN)/ruff format --check src tests bench
	$(BIN)/lint-imports

types: $(VENV)/tested
	$(BIN)/mypy

# Compiled beforehand, as an installed program is, also where Python is told to write no bytecode.
tests: $(VENV)/tested
	$(BIN)/python -m compileall -q src
	$(BIN)/pytest -n auto --dist worksteal

expected: $(VENV)/tested
	$(BIN)/python -m tests.rewrite_expected

bench: $(VENV)/tested
	$(BIN)/python bench/run.py
	$(BIN)/python bench/deliver.py

# In a copy of the tree, since the tool writes into the one it stands in. LIKE='*codes*' takes some of the changes only.
mutants: $(VENV)/tested
	$(BIN)/pip install --quiet --constraint constraints.txt --editable '.[mutants]'
	rm -rf $(MUTANTS) && mkdir -p $(MUTANTS)
	cp -r src tests typings examples pyproject.toml README.md $(MUTANTS)
	sed -i 's|"src/lomrix/core"\]|"src/lomrix/$(FOLDER)"]|' $(MUTANTS)/pyproject.toml
	cd $(MUTANTS) && LOMRIX_TEST_PROFILE=mutants $(CURDIR)/$(BIN)/mutmut run $(LIKE)
	cd $(MUTANTS) && $(CURDIR)/$(BIN)/mutmut results

# The reference of the commands and the manual page, from their own texts.
docs: $(BIN)/lomrix
	$(BIN)/python -m lomrix.cli.reference > docs/commands.md
	$(BIN)/python -m lomrix.cli.reference man > docs/lomrix.1
	$(BIN)/python -m lomrix.cli.reference help > docs/help.json && mv docs/help.json src/lomrix/cli/help.json

clean:
	rm -rf $(VENV) demo bench/work mutants
