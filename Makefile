# make help lists what there is.
SHELL := /bin/sh
export GOFLAGS := -mod=readonly

help: ## list the commands
	@grep -hE '^[a-z-]+:.*##' $(MAKEFILE_LIST) | sed 's/:.*## /\t/' | expand -t 16

demo: setup-server bin/hollowreed bin/standins ## start everything with demo data; Ctrl-C stops it
	@exec bin/hollowreed demo

demo-reset: bin/hollowreed ## remove the demo's data, to start over
	@bin/hollowreed demo --reset

test: setup-server setup-browser setup-judge setup-systems setup-node ## run all tests
	@echo "Building and testing; the first build takes some minutes"
	go test -timeout 40m -p 3 -parallel 4 $$(go list ./... | grep -Ev '/internal/(web/journeys|hostile)$$') # many wait more than they work
	go test -timeout 40m ./internal/hostile # takes all of the machine
	go test -timeout 40m -parallel 3 ./internal/web/journeys # drives a browser, and has the machine to itself

test-fast: ## run the tests that need no browser and no outside server
	@go test $$(go list -f '{{if or .TestGoFiles .XTestGoFiles}}{{.ImportPath}} {{.TestImports}} {{.XTestImports}}{{end}}' ./... \
	  | grep -Ev 'internal/testdb|internal/localpg |chromedp|connector/(mariadb|sftp|mail|mailbox|directory) ' | cut -d' ' -f1)

hostile: setup-server ## attack the running program, in all ways at once
	HOSTILE=full go test -count=1 -timeout 30m ./internal/hostile

race: setup-server ## run the tests of what runs at once with the race detector
	go test -race -timeout 40m ./internal/core/... ./internal/connector/... ./internal/engine/... ./internal/store/... ./internal/vault/... ./internal/web/page/... ./internal/web/bench/...

fuzz: ## run every fuzz target for a while (FUZZ=10m)
	@tools/fuzz.sh "$${FUZZ:-10m}"

conformance: setup-cases setup-judge ## run the cases of others on JSON Schema, XML, XML Schema and CSV against the counts of docs/conformance.md
	CASES="$(CURDIR)/tools/cases" go test -count=1 $(if $(VERBOSE),-v) ./internal/core/conformance

check: setup-node ## vet, staticcheck, formatting, and whether committed assets are fresh
	@tools/check.sh

bench: bin/hollowreed setup-server ## compare speed with hand-written programs on the same data
	go run ./bench

architecture: ## draw docs/architecture.md from the code
	go run ./tools/architecture

templates: ## format the page templates
	go run ./tools/templates -w internal/web

assets: ## build the committed assets from their sources
	tools/assets.sh "$(CURDIR)/internal/web/assets/dist"

screenshots: setup-server setup-browser ## take the pictures of docs/screenshots anew
	SCREENSHOTS="$(CURDIR)/docs/screenshots" go test ./internal/web/journeys -run TestScreenshots -count=1

setup-server:
	@tools/setup.sh server

setup-browser:
	@tools/setup.sh browser

setup-node:
	@tools/setup.sh node

setup-systems:
	@tools/setup.sh systems

setup-cases:
	@tools/setup.sh cases

setup-judge:
	@tools/setup.sh judge

bin/hollowreed: FORCE
	@[ -x bin/hollowreed ] || echo "Building; the first build takes some minutes"
	@go build -trimpath -ldflags="-s -w" -o bin/hollowreed ./cmd/hollowreed

bin/standins: FORCE
	@go build -trimpath -ldflags="-s -w" -o bin/standins ./cmd/standins

FORCE:

.PHONY: help demo demo-reset test test-fast hostile race fuzz conformance check bench architecture templates assets screenshots setup-server setup-browser setup-judge setup-cases setup-systems setup-node FORCE
