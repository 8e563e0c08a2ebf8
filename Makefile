# make demo   sets everything up and opens the application on the demo data; where there is no terminal it runs the
#             full example to the end and prints the ranking
# make test   sets up everything the tests need and runs them
PYTHON ?= python3
VENV := .venv
BIN := $(VENV)/bin
WORKSPACE ?= axiarch-demo

.PHONY: demo test setup system-packages check screenshots bench lock clean

demo: setup
	@$(BIN)/axiarch demo --workspace "$(WORKSPACE)"

test: system-packages setup
	@$(BIN)/python -m tests

setup: $(VENV)/.done

$(VENV)/.done: requirements.lock pyproject.toml
	@$(PYTHON) -c 'import sys; sys.exit(sys.version_info < (3, 11) and "Axiarch needs Python 3.11 or later; name one: make PYTHON=python3.11")'
	@echo "setting up $(VENV) (once)"
	@$(PYTHON) -m venv $(VENV)
	@$(BIN)/python -m pip install --quiet --disable-pip-version-check --require-hashes -r requirements.lock
	@$(BIN)/python -m pip install --quiet --disable-pip-version-check --no-deps --no-build-isolation --editable .
	@echo "compiling the kernels (once, about a minute)"
	@$(BIN)/python -m axiarch.runner warm
	@touch $@

system-packages:
	@sh tools/system-packages.sh

check: setup
	$(BIN)/ruff check .
	$(BIN)/mypy

screenshots: setup
	$(BIN)/python tools/screenshots.py

bench: setup
	$(BIN)/python -m benchmarks.engine
	$(BIN)/python -m benchmarks.pictures
	$(BIN)/python -m benchmarks.loading

lock: setup
	$(BIN)/python -m pip install --quiet pip-tools
	$(BIN)/pip-compile --quiet --extra dev --allow-unsafe --generate-hashes --no-emit-index-url \
	    --no-emit-find-links --no-emit-trusted-host --strip-extras --output-file requirements.lock pyproject.toml

clean:
	rm -rf $(VENV) *.egg-info
