# Two commands do everything: `make demo` and `make test`.
PYTHON ?= python3
VENV ?= .venv
BIN := $(VENV)/bin
DEMO ?= practice

.PHONY: demo test soak lint bench screenshots clean

$(BIN)/.run: pyproject.toml
	$(PYTHON) -m venv $(VENV)
	$(BIN)/python -m pip install --quiet --upgrade pip
	$(BIN)/python -m pip install --quiet --editable .
	touch $@

# once, and not at each start, where PYTHONDONTWRITEBYTECODE is set
$(BIN)/.compiled: $(BIN)/.run $(shell find src -name '*.py')
	$(BIN)/python -m compileall -q src
	touch $@

$(BIN)/.test: $(BIN)/.run
	$(BIN)/python -m pip install --quiet --editable '.[test]'
	touch $@

demo: $(BIN)/.compiled
	$(BIN)/mudanza demo $(DEMO) --again

test: $(BIN)/.test $(BIN)/.compiled
	$(BIN)/python -m pytest -n 2 --dist loadgroup --durations 10

# kills, signals, full disks, several at once, damaged ledgers, hostile files; then all cases of what `make test` tries
# some of, ten times as many made-up stories, and the measurements
soak: $(BIN)/.test $(BIN)/.compiled
	$(BIN)/python -m pytest -m soak tests/soak --durations 10
	MUDANZA_STORIES=10 $(BIN)/python -m pytest -m 'soak or stories' --ignore tests/soak -n 2 --dist loadgroup --durations 10

lint: $(BIN)/.test
	$(BIN)/ruff check src tests bench docs
	$(BIN)/ruff format --check src tests bench docs
	$(BIN)/mypy
	$(BIN)/lint-imports

bench: $(BIN)/.test $(BIN)/.compiled
	$(BIN)/python -m pip install --quiet --editable '.[bench]'
	$(BIN)/python bench/run.py

screenshots: $(BIN)/.test
	$(BIN)/python docs/screenshots.py

clean:
	rm -rf $(VENV) $(DEMO)
