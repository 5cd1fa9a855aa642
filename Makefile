# Every target sets up what it needs in .venv: the demo the program alone, all others its tools and extras too.
PYTHON ?= python3
BIN := .venv/bin

.PHONY: demo test test-dates lint bench fuzz clean

INSTALL := $(BIN)/python -m pip install --quiet --disable-pip-version-check --editable

.venv/program: pyproject.toml
	$(PYTHON) -m venv .venv
	$(INSTALL) .
	touch $@

.venv/installed: .venv/program
	$(INSTALL) '.[dev]'
	touch $@

demo: .venv/program
	$(BIN)/frugal demo

# Some tests wait for a scheduler or a watcher: one process more than there are processors.
WORKERS ?= $(shell echo $$(($$(getconf _NPROCESSORS_ONLN) + 1)))
test: .venv/installed
	$(BIN)/python -m pytest -n $(WORKERS) --dist worksteal

# What knows dates, at moments of other days: all of them, or those named in DATES, each without the spaces.
DATES ?= 2028-02-29T00:01 2026-12-31T23:59 2027-01-01T12:00 2026-11-30T18:40 2027-03-28T02:30 2026-10-25T02:30 2100-03-01T00:00
# Not those that ask the disk when something came: its clock is another one.
DATED := $(addprefix tests/test_,suggest.py learning.py when.py units.py conditions.py templates.py overlap.py \
  deciding.py trash_limits.py) tests/test_program.py::test_the_machine_has_the_same_files_at_any_moment
test-dates: .venv/installed
	@command -v faketime >/dev/null || { echo "NOT RUN AT OTHER DATES: faketime is not installed"; exit 0; }; \
	for moment in $(DATES); do echo "at $$moment:"; \
	  TZ=Europe/Berlin NO_FAKE_STAT=1 FAKETIME_DONT_FAKE_MONOTONIC=1 faketime -f "@$${moment%T*} $${moment#*T}:00" \
	    $(BIN)/python -m pytest -q -n $(WORKERS) -p no:cacheprovider $(DATED) || exit 1; done

# Random cases without end: a first seed and how many, such as `make fuzz FUZZ_SEED=7 FUZZ_CASES=20000`.
FUZZ_SEED ?= $(shell date +%s)
FUZZ_CASES ?= 5000
fuzz: .venv/installed
	FUZZ=1 FUZZ_SEED=$(FUZZ_SEED) FUZZ_CASES=$(FUZZ_CASES) $(BIN)/python -m pytest -n auto --hypothesis-seed=$(FUZZ_SEED) \
	  tests/test_fuzz.py tests/test_attacker.py tests/test_kills.py $$(grep -l "^from hypothesis" tests/test_*.py)

# Two years of nights with a ledger beside them; the suite has the first month.
YEAR_DAYS ?= 730
YEAR_SEED ?= 1
year: .venv/installed
	$(BIN)/python -m tests.year $(YEAR_DAYS) $(YEAR_SEED)

lint: .venv/installed
	$(BIN)/ruff check src tests benchmarks contrib
	$(BIN)/ruff format --check src tests benchmarks contrib
	$(BIN)/mypy
	$(BIN)/mypy --platform win32 --cache-dir .mypy_cache/win32 src
	$(BIN)/mypy --platform darwin --cache-dir .mypy_cache/darwin src
	$(BIN)/lint-imports

bench: .venv/installed
	$(BIN)/python benchmarks/run.py

clean:
	rm -rf .venv build dist
