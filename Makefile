# Kettlehole. `make help` lists what there is.
VERSION := $(shell git describe --always --dirty 2>/dev/null || echo unknown)
PROGRAMS := bin/kettlehole bin/kettlehole-anchor bin/kettlehole-init examples/avalanche-desk/programs/cairn
STATIC := CGO_ENABLED=0 go build -trimpath -buildvcs=false

.PHONY: help setup build demo example test check bench screenshots clean
.DEFAULT_GOAL := help

help: ## list the targets
	@grep -E '^[a-z]+:.*##' $(MAKEFILE_LIST) | sed -E 's/^([a-z]+):.*## (.*)/  make \1\t\2/' | expand -t 22

setup: ## install what is missing on this machine (Debian)
	scripts/setup

build: ## build the programs into bin/
	$(STATIC) -ldflags '-s -w -X main.version=$(VERSION)' -o bin/kettlehole ./cmd/kettlehole
	$(STATIC) -ldflags '-s -w' -o bin/kettlehole-anchor ./cmd/kettlehole-anchor
	$(STATIC) -ldflags '-s -w' -o bin/kettlehole-init ./cmd/kettlehole-init
	$(STATIC) -ldflags '-s -w' -o examples/avalanche-desk/programs/cairn ./cmd/cairn

demo: setup build ## open the demo lab; without a terminal, go through it
	bin/kettlehole demo
