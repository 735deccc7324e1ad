# Hawser. `make demo` and `make test` set up all they need; see README.md.
PYTHON ?= python3
VENV := .venv
BIN := $(VENV)/bin
READY := $(VENV)/.ready

.PHONY: demo test shots bench lock clean lint

$(READY): requirements.lock pyproject.toml
	@$(PYTHON) -c 'import sys; sys.exit(sys.version_info < (3, 11))' || \
	  { echo "Hawser needs Python 3.11 or newer; $(PYTHON) is older. Try: make PYTHON=python3.11" >&2; exit 1; }
	@$(PYTHON) -c 'import venv, ensurepip' 2>/dev/null || \
	  { echo "Python's venv module is missing. Install it with: sudo apt-get install python3-venv" >&2; exit 1; }
	$(PYTHON) -m venv $(VENV)
	$(BIN)/python -m pip install --quiet --disable-pip-version-check --require-hashes -r requirements.lock
	$(BIN)/python -m pip install --quiet --disable-pip-version-check --no-deps --no-build-isolation -e .
	$(BIN)/python -m compileall -q src/hawser
	$(BIN)/python -m hawser.warm
	@touch $@

demo: $(READY)
	@packaging/system.sh $(BIN)/python
	@$(BIN)/hawser --demo

test: $(READY)
	@packaging/system.sh $(BIN)/python xvfb
	$(BIN)/ruff check src tests benchmarks
	$(BIN)/ruff format --check src tests benchmarks
	$(BIN)/mypy
	$(BIN)/lint-imports --no-cache
	@packaging/tests.sh $(BIN)

shots: $(READY)
	@packaging/system.sh $(BIN)/python
	$(BIN)/python -m hawser.desk.shots docs/screenshots

bench: $(READY)
	@packaging/system.sh $(BIN)/python xvfb
	@for script in benchmarks/bench_*.py; do echo "== $$script"; $(BIN)/python $$script || exit 1; done

lock:
	$(PYTHON) -m venv build/lock
	build/lock/bin/pip install --quiet pip-tools
	build/lock/bin/pip-compile --quiet --allow-unsafe --generate-hashes --no-emit-index-url --no-annotate --no-header \
	  --strip-extras -o requirements.lock requirements.in

clean:
	rm -rf $(VENV) build .mypy_cache .ruff_cache .pytest_cache
