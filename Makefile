# Two commands: `make test` sets up and runs every check, `make demo` sets up and starts the application.
PYTHON ?= python3.11
VENV := .venv
BIN := $(VENV)/bin

.PHONY: setup test lint check-python warm clean

setup:
	@./scripts/setup.sh

warm: setup
	@./scripts/warm.sh

lint: setup
	$(BIN)/ruff format --check src tests benchmarks
	$(BIN)/ruff check src tests benchmarks
	$(BIN)/mypy
	$(BIN)/lint-imports --no-logo

test: setup lint warm
	$(BIN)/pytest

clean:
	rm -rf $(VENV) build .pytest_cache .mypy_cache .ruff_cache
