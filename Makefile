# Tide Marker. `make demo` to look at it, `make test` to check it; both install what is missing.
SHELL := /bin/bash
BIN := bin/tidemarker
WEB := $(shell find web/src web/public web/index.html web/beacon web/vite.config.ts web/vite.beacon.config.ts web/package.json -type f 2>/dev/null)
GO := $(shell find cmd internal docs/contract web/web.go -name '*.go' -o -name '*.sql' -o -path '*standin/fernhollow/*' -type f 2>/dev/null)

.PHONY: setup build demo record test test-interface test-runs test-core test-web test-trouble lint lint-go lint-web api bench corpus soak scale fuzz licences release reproducible screenshots clean

setup:
	@scripts/setup

web/node_modules/.package-lock.json: web/package-lock.json
	cd web && npm ci --no-audit --no-fund

web/dist/index.html: web/node_modules/.package-lock.json $(WEB) web/src/api/schema.gen.ts
	cd web && rm -rf dist/assets && npx vite build --logLevel warn && npx vite build -c vite.beacon.config.ts --logLevel warn

$(BIN): web/dist/index.html $(GO) go.mod
	go build -o $@ ./cmd/tidemarker

build: setup $(BIN)

demo: build
	@$(BIN) demo

# Makes the demo's record anew by really doing the work; takes some minutes.
record: build
	rm -rf .data/record && $(BIN) --data .data/record demo --record demo; rm -rf .data/record

# The description of the API, the types that the interface is built with, and the command line's client.
api: web/node_modules/.package-lock.json
	go run ./cmd/tidemarker openapi > web/openapi.json
	cd web && npm run --silent api
	go tool -modfile=tools/go.mod oapi-codegen -config internal/client/generate.yaml web/openapi.json

# What mostly computes goes in two lanes beside each other, since a machine with two processors is not busy with one; what
# counts how long things take comes alone, at the end. Lint has run go vet over the tests already.
TEST := go test -vet=off
test: setup
	@$(MAKE) --no-print-directory -j2 --output-sync=target test-core lint test-web
	@$(MAKE) --no-print-directory -j2 --output-sync=target test-interface test-runs
	@$(MAKE) --no-print-directory test-trouble

# Of the tests of runs, the browser and the API those in which several do something at once: stopped, taken up by another, waited for.
RACED := ALookYields|Stop|Worker|Lock|Wait|Died|Busy|Hangs|Cancelled|Job|Queued|Reads|LandsLate|Unknown|Open|Outside|Gate|AtOnce|ToldNothingMore|AreTold
# Not raced: the core, which does one thing at a time, and what starts processes of its own, which the detector does not see.
UNRACED := /cmd/|/internal/core|/internal/soak|/internal/command|/internal/run$$|/internal/browser$$|/internal/api$$
# Those that hold what is measured against what a page is known to take; by themselves, as what counts time is.
TIMED := WhatIsMeasuredIsWhatThePageDoes|VitalsAreThoseOfTheReferenceLibrary|APageComesIntoView|HowFastAPageReacts
test-interface:
	$(TEST) ./docs/... ./web
	$(TEST) -parallel 2 -timeout 60m ./internal/api
	$(TEST) -race -p 1 -parallel 2 -timeout 60m -skip '^TestFaults' $$(go list ./internal/... | grep -Ev '$(UNRACED)')
	$(TEST) -p 1 -timeout 60m -skip '^TestFaults' $$(go list ./cmd/... ./internal/... | grep -E '/cmd/|/internal/command|/internal/soak')
test-runs:
	$(TEST) -race -p 1 -parallel 2 -timeout 60m -run '$(RACED)' -skip '^Test(Faults|Controls)|$(TIMED)' ./internal/run ./internal/browser ./internal/api
	$(TEST) -parallel 2 -timeout 60m -run '^Test(Faults|Controls)' ./internal/run
	$(TEST) -p 1 -parallel 2 -timeout 60m -skip '^Test(Faults|Controls)|$(RACED)|$(TIMED)' ./internal/run ./internal/browser

# Some of it is held against reference libraries that npm installs.
test-core: web/node_modules/.package-lock.json
	$(TEST) ./internal/core/...

test-web: web/node_modules/.package-lock.json
	cd web && npm run --silent test

# Trouble on purpose; by itself, since it counts how long things take.
test-trouble:
	$(TEST) -timeout 20m -run '$(TIMED)' ./internal/browser
	$(TEST) -timeout 20m -run '^TestFaults' ./internal/browser ./internal/soak

lint: lint-go lint-web
lint-go: web/dist/index.html
	@test -z "$$(gofmt -l cmd internal docs web/*.go)" || { gofmt -l cmd internal docs web/*.go; echo "these files are not gofmt-ed"; exit 1; }
	go vet ./...
	go tool staticcheck ./...
	go run ./cmd/tidemarker openapi | diff -q - web/openapi.json || { echo "the API changed: run make api"; exit 1; }
lint-web: web/node_modules/.package-lock.json
	cd web && npm run --silent types && npm run --silent lint && npm run --silent format

bench: build
	go test -run '^$$' -bench . -benchtime 3x ./internal/core/visual ./internal/core/exclusion ./internal/browser ./internal/run ./internal/store ./internal/field ./internal/post ./web
	TIDEMARKER_MUCH=1 go test -v -timeout 20m -run '^TestScreensOpenWhenThereIsMuch$$' ./internal/api | grep -v '^{\|goose\|level='

# Ways to load late, changes of which it is known what they do, and what can go wrong in 500 ways: how much of it a
# check notices. Some hours; make test does a few of each.
corpus: build
	@scripts/setup corpus
	TIDEMARKER_LATE=all go test -v -timeout 120m -run '^Test(ALookSees|ABusyMachine)' ./internal/browser | grep -v '^{'
	TIDEMARKER_CORPUS=all TIDEMARKER_SELLING=50 TIDEMARKER_CULPRITS=all TIDEMARKER_MUTATIONS=500 TIDEMARKER_RUNS=1 go test -v -timeout 420m -run '^TestFaults|^TestAKilledRun' ./internal/run | grep -v '^{\|goose'

# Trouble made on purpose, until 1,000 processes were killed (or KILLS of them): about an hour. SEED repeats a run.
KILLS ?= 1000
soak: build
	TIDEMARKER_SOAK=$(KILLS) TIDEMARKER_SOAK_SEED=$(SEED) go test -v -timeout 240m -run '^TestFaultsAreSurvived$$' ./internal/soak | grep -v '^{\|goose'

# Two hundred sites and two years of them: how long everything that can be read takes, and how many looks a minute workers make.
scale: build
	TIDEMARKER_SCALE=1 go test -v -timeout 120m -run '^TestEveryListAnswersAtScale$$' ./internal/api | grep -v '^{\|goose'
	TIDEMARKER_SCALE=1 go test -v -timeout 60m -run '^TestFaultsOfWorkersBesideEachOther$$' ./internal/run | grep -v '^{\|goose'

# Foreign bytes of all kinds, each for FUZZTIME; four minutes of each are an hour.
fuzz:
	@FUZZTIME=$(or $(FUZZTIME),4m) scripts/fuzz

# What is built in, and under which licence.
licences: web/node_modules/.package-lock.json
	@scripts/licences

# The program, a Debian package of it, and lists of what it is made of, in dist/.
release: build licences
	@scripts/release

# The same commit gives the same bytes: built twice, the second time in another folder.
reproducible: release
	@scripts/reproducible

# Fresh pictures of the main views, from the demo's data.
screenshots: build
	@scripts/screenshots

clean:
	rm -rf bin dist web/dist/assets web/dist/index.html .data
