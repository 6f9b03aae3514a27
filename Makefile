# make demo      the service with the example project, in this terminal
# make test      every check and every test
# make build     bin/lantern with its console
# make help      the rest

SHELL := /bin/sh
GO ?= go
DEMO ?= lantern-demo
export DEBIAN_FRONTEND := noninteractive
console_sources := $(shell find console/src console/public -type f ! -name schema.gen.ts) $(wildcard console/*.json console/*.ts console/*.js console/index.html)

.PHONY: help demo build test check go-check console-check go-test reference reference-check screenshots bench profile simulate crashes clean

help:
	@sed -n 's/^# //p' Makefile; echo 'make reference    docs/reference anew'; echo 'make screenshots  docs/screenshots anew'; echo 'make bench        the measurements'; echo 'make profile      where the time of the graph goes'; echo 'make simulate     the simulation, SEEDS=n'; echo 'make crashes      real crashes, KILLS=n'; echo 'make clean        remove what was built'

demo: build
	bin/lantern demo --dir $(DEMO)

build: .cache/gcc console/dist/index.html
	CGO_ENABLED=1 $(GO) build -trimpath -o bin/lantern ./cmd/lantern

# What a machine with Debian's packages lacks, installed once.
.cache/gcc:
	@command -v gcc >/dev/null || { apt-get update -qq && apt-get install -y -qq --no-install-recommends gcc libc6-dev; }
	@mkdir -p .cache && touch $@

.cache/chromium:
	@command -v chromium >/dev/null || { apt-get update -qq && apt-get install -y -qq --no-install-recommends chromium fonts-dejavu-core; }
	@mkdir -p .cache && touch $@

.cache/postgres:
	@ls /usr/lib/postgresql/*/bin/postgres >/dev/null 2>&1 || { apt-get update -qq && apt-get install -y -qq --no-install-recommends postgresql; }
	@mkdir -p .cache && touch $@

console/node_modules/.installed: console/package.json console/package-lock.json
	cd console && npm ci --no-audit --no-fund --loglevel=error
	@touch $@

console/dist/index.html: console/node_modules/.installed docs/reference/openapi.json $(console_sources)
	cd console && npm run --silent build
	@touch $@

test: build .cache/chromium .cache/postgres check go-test

check: go-check reference-check console-check

go-check:
	@unformatted=$$(gofmt -l $$(git ls-files '*.go')); [ -z "$$unformatted" ] || { echo "gofmt these:"; echo "$$unformatted"; exit 1; }
	$(GO) vet ./...
	$(GO) tool staticcheck ./...

console-check: console/dist/index.html
	cd console && npm run --silent types && npm run --silent lint

go-test: build
	LANTERN_BINARY=$(CURDIR)/bin/lantern $(GO) test -timeout 15m ./...

reference:
	$(GO) run ./cmd/lantern-docs docs/reference

reference-check:
	@mkdir -p .cache/reference && $(GO) run ./cmd/lantern-docs .cache/reference
	@diff -r -x definition.md .cache/reference docs/reference >/dev/null || { echo "docs/reference is older than the code: run make reference"; exit 1; }

screenshots: build .cache/chromium
	$(GO) run ./cmd/lantern-shots docs/screenshots

.cache/ninja:
	@command -v ninja >/dev/null || { apt-get update -qq && apt-get install -y -qq --no-install-recommends ninja-build; }
	@mkdir -p .cache && touch $@

SEEDS ?= 1000
simulate:
	LANTERN_SEEDS=$(SEEDS) $(GO) test -run TestSimulation -timeout 48h -v ./service/engine

KILLS ?= 100
crashes: build
	LANTERN_KILLS=$(KILLS) LANTERN_BINARY=$(CURDIR)/bin/lantern $(GO) test -run 'KillsOf' -timeout 2h -v ./cli

bench: build .cache/chromium .cache/ninja
	LANTERN_BINARY=$(CURDIR)/bin/lantern $(GO) test -run '^$$' -bench . -benchmem -timeout 60m -p 1 ./core/... ./service/engine ./service ./console | $(GO) run ./cmd/lantern-bench

# Where the time of the graph goes: the profiles of the service and its worker.
profile: build .cache/ninja
	@mkdir -p .cache/profiles
	CGO_ENABLED=1 $(GO) build -trimpath -tags profile -o .cache/profiles/lantern ./cmd/lantern
	LANTERN_PROFILES=$(CURDIR)/.cache/profiles LANTERN_BINARY=$(CURDIR)/.cache/profiles/lantern $(GO) test -run '^$$' -bench 'Graph$$' -benchtime 1x ./service
	for of in serve worker; do $(GO) tool pprof -top -cum -nodecount 60 .cache/profiles/lantern .cache/profiles/$$of.pprof; done

clean:
	rm -rf bin .cache console/dist/assets console/dist/index.html console/dist/lantern.svg console/node_modules console/src/api/schema.gen.ts
