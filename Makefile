# `make demo` and `make test` do everything on a machine with Python 3.11+ and git.
PY := $(shell for p in python3.13 python3.12 python3.11 python3 python; do \
	command -v $$p >/dev/null 2>&1 && $$p -c 'import sys; sys.exit(sys.version_info < (3, 11))' 2>/dev/null && echo $$p && break; done)
VENV ?= .venv
BIN := $(VENV)/bin

# Program starts are a good part of every test: what they compile is kept.
unexport PYTHONDONTWRITEBYTECODE

.PHONY: demo test lint oldest bench docs pictures clean

$(VENV)/.runs: pyproject.toml
	@test -n "$(PY)" || { echo "Python 3.11 or newer is needed, and none was found on the PATH" >&2; exit 1; }
	$(PY) -m venv $(VENV)
	$(BIN)/pip install --quiet --disable-pip-version-check -e .
	@touch $@

$(VENV)/.tests: $(VENV)/.runs
	$(BIN)/pip install --quiet --disable-pip-version-check -e '.[dev]'
	@touch $@

demo: $(VENV)/.runs
	@rm -rf demo-workspace
	$(BIN)/lantern demo demo-workspace

lint: $(VENV)/.tests
	$(BIN)/ruff format --check src tests bench
	$(BIN)/ruff check src tests bench
	$(BIN)/mypy
	$(BIN)/lint-imports

test: lint
	$(BIN)/pytest -n 4 --no-loadscope-reorder --durations=25

oldest:
	.ci/oldest

bench: $(VENV)/.tests
	$(BIN)/python bench/every.py

docs: $(VENV)/.runs
	$(BIN)/python -m rusty_lantern.reports.docs.reference docs
	$(BIN)/python -m rusty_lantern.cli.manpage > docs/lantern.1

pictures: $(VENV)/.runs
	bench/pictures.sh $(BIN)

clean:
	rm -rf $(VENV) demo-workspace dist .mypy_cache .ruff_cache .pytest_cache .hypothesis
