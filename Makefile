# The two commands for a fresh machine are `make demo` and `make test`; `make check` is all that must be green.
PYTHON ?= python3
VENV ?= .venv
BIN := $(VENV)/bin
# the tests run side by side: each with one thread for its matrices, as `fstripe` itself
export OPENBLAS_NUM_THREADS ?= 1
export OMP_NUM_THREADS ?= 1

.PHONY: demo test long check lint shots man bench slow clean

demo: $(VENV)/.installed
	$(BIN)/fstripe demo all

test: $(VENV)/.installed-dev
	@echo "left out: the long lane, with the demo, kills, failing disks, fuzz and real file systems (make long)"
	$(BIN)/pytest -n 3  # some of them wait

long: $(VENV)/.installed-dev
	$(BIN)/pytest -n 2 -m long

check: lint test long

lint: $(VENV)/.installed-dev
	@echo "ruff, mypy (strict on core/), the import contract; benchmarks are left out: they time things (make bench)"
	$(BIN)/ruff check .
	$(BIN)/ruff format --check .
	$(BIN)/mypy
	$(BIN)/lint-imports

bench: $(VENV)/.installed-dev
	$(BIN)/python benchmarks/parity.py
	$(BIN)/python benchmarks/rebuild.py
	$(BIN)/python benchmarks/startup.py
	$(BIN)/python benchmarks/lineup.py

# an hour or so: the solver on ever larger volumes, on random piles, and on real file systems (which needs root)
slow: $(VENV)/.installed-dev
	for mib in 64 128 256 512 1024; do $(BIN)/python benchmarks/lineup.py --mib $$mib || exit 1; done
	$(BIN)/python benchmarks/accuracy.py --seed $$(date +%j) --cases 100
	$(BIN)/python benchmarks/real.py --gib 2 --extract
	$(BIN)/python -m benchmarks.borders --seed $$(date +%j) --count 2000
	$(BIN)/python benchmarks/blame.py --seed $$(date +%j)
	$(BIN)/python benchmarks/fuzz.py --seed $$(date +%j)

shots: $(VENV)/.installed-dev
	$(BIN)/python tools/make_screenshots.py docs/screenshots

# a site of the manual and a man page for every command, in build/
man: $(VENV)/.installed-dev
	$(BIN)/pip install --quiet --editable '.[manual]'
	$(BIN)/python tools/make_man.py build/man
	$(BIN)/mkdocs build --quiet

$(VENV)/.installed: pyproject.toml
	$(PYTHON) -m venv $(VENV)
	$(BIN)/pip install --quiet --editable .
	touch $@

$(VENV)/.installed-dev: pyproject.toml
	$(PYTHON) -m venv $(VENV)
	$(BIN)/pip install --quiet --editable '.[dev]'
	touch $@ $(VENV)/.installed

clean:
	rm -rf $(VENV)
