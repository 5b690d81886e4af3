# Moorwatch. `make` lists the targets.
SHELL := /bin/sh
DEMO_DIR ?= demo-data
DEMO_PORT ?= 8460
export DEMO_DIR DEMO_PORT
# a clone that belongs to another account must build too
export GOFLAGS := $(GOFLAGS) -buildvcs=false
GO_FILES := $(shell find . -name '*.go' -not -path './web/node_modules/*')
WEB_FILES := $(shell find web/src web/public web/index.html web/vite.config.ts -type f)

.DEFAULT_GOAL := help
.PHONY: help inspect mutate quick cover dev hooks release demo demo-reset build test race lint lab fuzz bench fmt generate cross screenshots install packages

help: ## list the targets
	@awk -F ':.*## ' '/^[a-z-]+:.*## / {printf "  %-12s %s\n", $$1, $$2}' $(MAKEFILE_LIST)

demo: packages build $(DEMO_DIR)/releases/release.pub ## run the service with a database and a sample fleet, until Ctrl+C
	@exec bin/moorwatch demo

# a release of the agent for this machine and for Windows, so that devices can be added to the demo
$(DEMO_DIR)/releases/release.pub: bin/.built
	@mkdir -p $(DEMO_DIR)
	@go run ./tools/release -out $(DEMO_DIR)/releases -key $(DEMO_DIR)/release-key -targets linux/$$(go env GOARCH),windows/amd64 -archives=false >/dev/null

release: web/dist/index.html ## make a release in dist: programs, packages, checksums, signatures; VERSION=1.4.0 names it
	@tools/install.sh release
	@go run ./tools/release -version $(or $(VERSION),0.2.0)

dev: packages build $(DEMO_DIR)/releases/release.pub ## the demo, and beside it the console with reload, until Ctrl+C
	@trap 'kill 0' EXIT INT TERM; bin/moorwatch demo & cd web && npm run dev

demo-reset: packages build ## delete what the demo keeps in DEMO_DIR, to begin anew
	@bin/moorwatch demo --reset

build: bin/.built ## build the programs into bin

packages:
	@tools/install.sh demo

bin/.built: $(GO_FILES) go.mod go.sum web/dist/index.html contract/openapi.yaml
	CGO_ENABLED=0 go build -trimpath -o bin/ ./cmd/...
	@touch $@

web/dist/index.html: web/node_modules/.package-lock.json $(WEB_FILES) web/compress.js
	cd web && npm run --silent build
	@touch $@

web/node_modules/.package-lock.json: web/package-lock.json
	@# not "npm ci": it fails where a registry lacks the optional packages of another system
	cd web && npm install --no-save --no-fund --no-audit --loglevel=error
	@touch $@

test: ## install what is missing, then lint and run every test
	@tools/install.sh test
	$(MAKE) --no-print-directory build lint cross
	go test -race -timeout 10m $$(go list ./... | grep -vE '/(test|release|rules|page)$$') ./core/release
	@# they pack programs, read sources and drive a browser: the race detector makes that five times slower, and finds nothing
	go test -timeout 10m ./tools/release ./test/rules ./test/page
	@# they wait more than they compute
	go test -timeout 40m -parallel 3 ./test

quick: web/dist/index.html ## the tests that need no service and no race detector
	go test -short $$(go list ./... | grep -vE '/(test|bench|lab)$$')

cover: ## which share of core's statements its tests reach; 90 % of each room at least
	@tools/cover.sh

race: build ## run the end-to-end tests with the race detector, which takes twice as long
	go test -race -timeout 40m ./test

lint: web/node_modules/.package-lock.json web/dist/index.html ## check formatting, code and generated files
	@test -z "$$(gofmt -l $(GO_FILES) | tee /dev/stderr)" || { echo "lint: run make fmt" >&2; exit 1; }
	go vet ./...
	go tool -modfile=tools.mod staticcheck ./...
	cd web && npm run --silent lint && npx --no-install tsc --noEmit
	@cd web && said=$$(REDOCLY_TELEMETRY=off REDOCLY_SUPPRESS_UPDATE_NOTICE=true npx --no-install redocly lint \
		--config ../contract/redocly.yaml ../contract/openapi.yaml 2>&1) || { echo "$$said" >&2; exit 1; }
	tools/generated.sh

inspect: ## what golangci-lint finds beside lint; the first time it is compiled, which takes minutes
	go tool -modfile=inspect.mod golangci-lint run --timeout 20m ./...

mutate: ## change core's code in thousands of ways, and see its tests fail: MUTATE="transfer keys" for some rooms
	@tools/mutate.sh $(MUTATE)

cross: ## compile the agent and the client for the other systems
	@for target in windows/amd64 darwin/arm64 darwin/amd64 linux/arm64; do \
		echo "cross $$target"; \
		GOOS=$${target%/*} GOARCH=$${target#*/} CGO_ENABLED=0 go build -o /dev/null ./cmd/moor-agent ./cmd/moor && \
		GOOS=$${target%/*} GOARCH=$${target#*/} CGO_ENABLED=0 go vet ./agent/... ./cmd/moor-agent || exit 1; \
	done

generate: web/node_modules/.package-lock.json ## make the generated code anew from the contract
	go generate ./contract/... ./client/...
	cd web && npm run --silent generate

lab: build ## as root: boot six real machines beside a running demo, to patch, cut and kill
	@tools/install.sh test
	@go run ./lab/run -demo $(DEMO_DIR)

fuzz: web/dist/index.html ## run every fuzz target for a minute; FUZZ_TIME=1h for longer
	@tools/fuzz.sh

bench: build ## measure the figures: name value unit limit ratio
	@tools/install.sh test bench
	@go run ./bench

hooks: ## have git look at each commit before it is made
	git config core.hooksPath tools/hooks

fmt: web/node_modules/.package-lock.json ## format everything
	gofmt -w $(GO_FILES)
	cd web && npm run --silent fmt

screenshots: ## take docs/screenshots anew from a running demo
	go run ./demo/shots -demo $(DEMO_DIR) -out docs/screenshots

install: build ## put the client and its completion for bash in place, below PREFIX (~/.local)
	install -D -m 755 bin/moor $(or $(PREFIX),$(HOME)/.local)/bin/moor
	mkdir -p $(or $(PREFIX),$(HOME)/.local)/share/bash-completion/completions
	bin/moor completion bash > $(or $(PREFIX),$(HOME)/.local)/share/bash-completion/completions/moor
