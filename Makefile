# Every target sets up all it needs: a virtual environment in .venv with the project in it.
PYTHON ?= python3
BIN := .venv/bin

.PHONY: demo test lint bench clean

.venv/installed: pyproject.toml
	$(PYTHON) -m venv .venv
	$(BIN)/python -m pip install --quiet --disable-pip-version-check --editable '.[dev]'
	touch $@

demo: .venv/installed
	$(BIN)/frugal demo

test: .venv/installed
	$(BIN)/python -m pytest -n auto --dist worksteal

lint: .venv/installed
	$(BIN)/ruff check src tests benchmarks
	$(BIN)/ruff format --check src tests benchmarks
	$(BIN)/mypy
	$(BIN)/lint-imports

bench: .venv/installed
	$(BIN)/python benchmarks/run.py

clean:
	rm -rf .venv build dist
