# Every target sets up all it needs: a virtual environment in .venv with the project in it.
PYTHON ?= python3
BIN := .venv/bin

.PHONY: demo test lint bench fuzz clean

.venv/installed: pyproject.toml
	$(PYTHON) -m venv .venv
	$(BIN)/python -m pip install --quiet --disable-pip-version-check --editable '.[dev]'
	touch $@

demo: .venv/installed
	$(BIN)/frugal demo

# Some tests wait for a scheduler or a watcher: one process more than there are processors.
WORKERS ?= $(shell echo $$(($$(getconf _NPROCESSORS_ONLN) + 1)))
test: .venv/installed
	$(BIN)/python -m pytest -n $(WORKERS) --dist worksteal

# Random cases without end: a first seed and how many, such as `make fuzz FUZZ_SEED=7 FUZZ_CASES=20000`.
FUZZ_SEED ?= $(shell date +%s)
FUZZ_CASES ?= 5000
fuzz: .venv/installed
	FUZZ=1 FUZZ_SEED=$(FUZZ_SEED) FUZZ_CASES=$(FUZZ_CASES) $(BIN)/python -m pytest -n auto --hypothesis-seed=$(FUZZ_SEED) \
	  tests/test_fuzz.py tests/test_attacker.py tests/test_kills.py $$(grep -l "^from hypothesis" tests/test_*.py)

lint: .venv/installed
	$(BIN)/ruff check src tests benchmarks
	$(BIN)/ruff format --check src tests benchmarks
	$(BIN)/mypy
	$(BIN)/mypy --platform win32 --cache-dir .mypy_cache/win32 src
	$(BIN)/mypy --platform darwin --cache-dir .mypy_cache/darwin src
	$(BIN)/lint-imports

bench: .venv/installed
	$(BIN)/python benchmarks/run.py

clean:
	rm -rf .venv build dist
