# Kettlehole. `make help` lists what there is.
VERSION := $(shell git describe --always --dirty 2>/dev/null || echo unknown)
STATIC := CGO_ENABLED=0 go build -trimpath -buildvcs=false
STATICCHECK := go tool staticcheck

.PHONY: docs help setup build demo example test check bench screenshots clean
.DEFAULT_GOAL := help

help: ## list the targets
	@grep -E '^[a-z]+:.*##' $(MAKEFILE_LIST) | sed -E 's/^([a-z]+):.*## (.*)/  make \1\t\2/' | expand -t 22

setup: ## install what is missing on this machine (Debian)
	@scripts/setup

build: ## build the programs into bin/
	@$(STATIC) -ldflags '-s -w -X main.version=$(VERSION)' -o bin/kettlehole ./cmd/kettlehole
	@$(STATIC) -ldflags '-s -w' -o bin/kettlehole-anchor ./cmd/kettlehole-anchor
	@$(STATIC) -ldflags '-s -w' -o bin/kettlehole-init ./cmd/kettlehole-init
	@$(STATIC) -ldflags '-s -w' -o bin/kettlehole-files ./cmd/kettlehole-files
	@$(STATIC) -ldflags '-s -w' -o bin/cairn ./cmd/cairn
	@mkdir -p examples/avalanche-desk/programs && cp bin/cairn examples/avalanche-desk/programs/cairn

docs: ## make the files that are made from the types of the language
	@go test -count 1 ./internal/labfile/shape -update

demo: ## open the demo lab; without a terminal, go through it; rehearsed where no lab can live
	@scripts/setup || echo "setup: going on without; the demo is rehearsed"
	@$(MAKE) --no-print-directory build
	@bin/kettlehole demo

example: setup build ## go through the demo lab without a full screen
	@bin/kettlehole demo --plain

test: build ## run all tests; as root, or the kernel tests are skipped
	@scripts/setup test
	KETTLEHOLE_TEST_BIN=$(CURDIR)/bin go test -race -count=1 -timeout 45m ./...

check: build ## everything that must hold before a change is taken
	@test -z "$$(gofmt -l .)" || { echo "gofmt would change:"; gofmt -l .; exit 1; }
	go vet ./...
	$(STATICCHECK) ./...
	go mod tidy -diff
	@$(MAKE) --no-print-directory test

bench: build ## measure; on an idle machine, as root
	@go test -run '^$$' -bench . -count 5 ./internal/plan ./internal/labfile ./internal/rehearsal ./internal/tui ./internal/workstation/survey | grep Benchmark
	@KETTLEHOLE_TEST_BIN=$(CURDIR)/bin KETTLEHOLE_MEASURE=1 go test -count 1 -run '^TestMeasure' -v -timeout 20m ./internal/measure | grep -v -e '^=== ' -e '^--- '

screenshots: build ## take the pictures in docs/screenshots from the demo lab
	@scripts/setup pictures
	@scripts/screenshots

clean: ## remove what was built
	rm -rf bin examples/*/programs
