# Mellow Thump. The two commands that matter: make demo, make test.
GO ?= go
BIN := bin/mellowthump
# Transforms take four values at a time where this Go and this processor can: the same results to the bit, three times as fast.
ifndef GOEXPERIMENT
export GOEXPERIMENT := $(shell GOEXPERIMENT=simd $(GO) build ./core/dsp 2>/dev/null && echo simd)
endif

.PHONY: help demo build test lint race bench kill long soak fuzz shots vendor tools

help: ## this list
	@grep -hE '^[a-z]+:.*##' $(MAKEFILE_LIST) | sed -E 's/^([a-z]+):.*## /  make \1\t/' | expand -t 16

demo: build ## start the app with the demo song and print its address
	@$(BIN) demo

build: ## build bin/mellowthump
	@CGO_ENABLED=0 $(GO) build -o $(BIN) ./cmd/mellowthump

tools:
	@scripts/tools

# The packages that take longest come first, so that no processor idles at the end.
LONG := ./e2e ./core/runsheet ./app/web ./cmd/... ./core/landed ./core/bench ./core/facts ./core/meter ./core/duck
# One package more than there are processors: who waits for a browser or another program leaves none idle.
ABREAST := $(shell expr $$(nproc) + 1)
RESULTS := $(or $(TMPDIR),/tmp)/mellowthump-tests.json

test: tools ## install what the tests need (Debian packages, only if missing) and run all of them
	@$(GO) tool gotestsum --format pkgname-and-test-fails --format-hide-empty-pkg --hide-summary=skipped --jsonfile $(RESULTS) -- -timeout 30m -p $(ABREAST) $(LONG) ./...
	@echo "The ten slowest:"; $(GO) tool gotestsum tool slowest --num 10 --jsonfile $(RESULTS)

lint: ## gofmt, go vet, staticcheck
	@test -z "$$(gofmt -l .)" || { gofmt -l .; exit 1; }
	$(GO) vet ./...
	$(GO) tool staticcheck ./...

# Where goroutines meet; of the pages the tests that ask for several things at once (app/web/main_test.go names them).
RACED := ./app/web ./core/runsheet ./core/mix ./core/bench ./app/store ./app/worker ./app/gate ./app/decode ./core/group

race: tools ## what runs beside other things, with the race detector; without the browser
	$(GO) test -race -short -timeout 30m -p $(ABREAST) $(RACED)

bench: tools ## print the benchmarks beside their targets
	@scripts/bench

kill: ## end a working server 400 times at any moment, and look for what it lost
	MELLOWTHUMP_KILLS=400 $(GO) test -timeout 60m -count=1 -v -run TestKill ./cmd/mellowthump
	MELLOWTHUMP_REMOVALS=1000 $(GO) test -timeout 60m -count=1 -v -run TestRemovals ./app/store

soak: ## sixteen clients for five minutes, with the race detector
	MELLOWTHUMP_SOAK=5m $(GO) test -race -timeout 30m -count=1 -v -run TestClientsAtOnce ./app/web

# Each fuzz target: its name and its package.
FUZZ := FuzzAIFF:app/decode FuzzFLAC:app/decode FuzzMP3:app/decode FuzzOgg:app/decode FuzzReader:core/audio/wav \
	FuzzRead:core/midi FuzzRead:core/session FuzzFileName:core/session FuzzNames:core/export FuzzSong:core/mix FuzzSide:app/web/ask
FUZZTIME ?= 60s

long: ## Duck and Levels over two stems of half an hour, 12 of 12 min, every stage over 60 of 3 min: memory, time
	MELLOWTHUMP_MINUTES=30 $(GO) test -timeout 30m -count=1 -v -run TestLongSong ./cmd/mellowthump
	MELLOWTHUMP_MINUTES=12 MELLOWTHUMP_STEMS=12 $(GO) test -timeout 30m -count=1 -v -run TestLongSong ./cmd/mellowthump
	MELLOWTHUMP_MINUTES=3 MELLOWTHUMP_STEMS=60 $(GO) test -timeout 30m -count=1 -v -run TestLongSong ./cmd/mellowthump
	MELLOWTHUMP_SEEDS=24 $(GO) test -timeout 30m -count=1 -v -run TestEnds ./core/runsheet

fuzz: tools ## run each fuzz target for a minute, or FUZZTIME=10m
	@set -e; for t in $(FUZZ); do echo "$$t"; $(GO) test -run '^$$' -fuzz "^$${t%%:*}\$$" -fuzztime $(FUZZTIME) -fuzzminimizetime 10x ./$${t##*:}; done

shots: tools ## remake the pictures in docs/screenshots from the demo song
	SHOTS=docs/screenshots $(GO) test -count=1 -run TestShots ./e2e

vendor: ## refresh the fonts, styles and scripts that the pages ship with
	@scripts/vendor
