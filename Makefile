# The tasks of this repository; `make` alone lists them. Each is one command that can also be typed by hand.
PYTHON ?= python

.PHONY: help install test coverage lint types fix pages site bench mutations mutants kills soak ci
help:  ## list the tasks
	@grep -hE '^[a-z]+:.*## ' $(MAKEFILE_LIST) | sed -E 's/:.*## /\t/' | expand -t 12

install:  ## the program and all tools, editable
	$(PYTHON) -m pip install -e ".[test,dev]"

test:  ## all tests, on all cores
	$(PYTHON) -m pytest

coverage:  ## which lines the tests reach, subprocesses included; twice as long as the tests
	rm -f .coverage .coverage.*
	-coverage run -m pytest
	coverage combine -q && coverage report

lint:  ## style and common mistakes
	ruff check . && ruff format --check .

types:  ## types, strict
	mypy

fix:  ## what lint can put right by itself
	ruff check --fix . && ruff format .

pages:  ## the pages that are written by programs: findings, site file, JSON output, faults
	$(PYTHON) docs/make_findings.py && $(PYTHON) docs/make_site.py && $(PYTHON) docs/make_json.py && $(PYTHON) docs/make_man.py
	$(PYTHON) docs/make_rulebook.py
	$(PYTHON) tests/faults/table.py

site:  ## the documents as a site, in build/site; warnings are errors
	mkdocs build -q

bench:  ## every benchmark, as ratios within one run
	for script in bench/*.py; do $(PYTHON) $$script; done

mutations:  ## change the code in small ways, each in a copy, and see that a test fails
	$(PYTHON) tests/mutations/run.py

mutants:  ## random small changes of all of core, api and host, each in a copy; 100 take an hour
	$(PYTHON) tests/mutations/random_mutants.py --seed "$$(git rev-parse HEAD)"

kills:  ## kills at random instants; takes half an hour
	$(PYTHON) tests/faults/random_kills.py 400

soak:  ## the whole suite ten times, two runs at once, to find tests that fail by chance; takes two hours
	$(PYTHON) tests/soak.py

ci:  ## everything, in a fresh environment, as before anything lands
	.ci/run
