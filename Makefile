# Idle Ember. `make demo` and `make test` are all that one needs on a machine with Go, Node and make.

BIN := bin/idleember
GO_SOURCES := $(shell find . -name '*.go' -not -path './console/node_modules/*' -not -path './.*') go.mod go.sum $(wildcard store/migrations/*) api/openapi.yaml api/zones.txt
CONSOLE_SOURCES := $(shell find console/src console/public console/first console/index.html console/*.ts console/package.json -type f)
VERSION ?= $(shell git describe --tags --always --dirty 2>/dev/null || echo dev)
LDFLAGS := -s -w -X idleember/serve.Version=$(VERSION)

.PHONY: help build demo test test-go test-console test-e2e lint bench prove generate shots clean

help: ## what there is to make
	@grep -hE '^[a-z-]+:.*## ' $(MAKEFILE_LIST) | sed 's/:.*## /\t/' | expand -t 16

build: $(BIN) ## one static binary with the console inside: bin/idleember

$(BIN): $(GO_SOURCES) console/dist/index.html
	CGO_ENABLED=0 go build -trimpath -ldflags '$(LDFLAGS)' -o $@ ./cmd/idleember

console/node_modules/.made: console/package-lock.json
	cd console && npm ci --no-audit --no-fund --loglevel=error
	@touch $@

console/dist/index.html: console/node_modules/.made $(CONSOLE_SOURCES)
	cd console && npm run --silent build
	@touch $@

demo: build ## start the hub with the demo studio
	./$(BIN) demo --data .demo $(ARGS)

test: need-test build test-go test-console test-e2e ## install what the tests need and run everything

.PHONY: need-test
need-test:
	@./scripts/need chromium=chromium mosquitto_pub=mosquitto-clients mosquitto_sub=mosquitto-clients strace=strace curl=curl g++=g++ \
	  socat=socat mbpoll=mbpoll /usr/sbin/mosquitto=mosquitto /usr/bin/python3=python3 /usr/lib/python3/dist-packages/serial=python3-serial \
	  certutil=libnss3-tools /usr/lib/python3/dist-packages/pymodbus=python3-pymodbus /usr/lib/python3/dist-packages/serial_asyncio=python3-serial-asyncio

test-go: build
	go vet ./...
	go test -race -parallel 6 -timeout 15m ./... # most of what the tests do is wait

test-console: console/node_modules/.made
	cd console && npm run --silent test

test-e2e: build
	cd console && npm run --silent e2e

lint: console/node_modules/.made ## linters for Go and the console, and whether generated files are up to date
	test -z "$$(gofmt -l $$(git ls-files '*.go'))" || { gofmt -l $$(git ls-files '*.go'); exit 1; }
	go vet ./...
	go tool staticcheck ./...
	cd console && npm run --silent lint
	./scripts/fresh

bench: build ## figures, in pairs in one run
	go test -run '^$$' -bench . -benchtime 2s ./core/series ./core/engine ./tests
	go test -run '^$$' -bench Ingest -benchtime 2000x ./store
	go test -run '^$$' -bench 'Size|Year|Start' -benchtime 5x -timeout 30m ./store
	cd console && FIGURES=1 npm run --silent e2e -- figures

prove: need-test build ## the long crash, takeover and soak tests; results go to docs/proof.md
	./scripts/prove

generate: console/node_modules/.made ## Go and TypeScript from api/openapi.yaml
	go generate ./api ./client
	cd console && npm run --silent contract

shots: build ## take the pictures in docs/screenshots again
	cd console && npm run --silent shots

clean: ## remove what was built
	rm -rf bin console/dist/assets console/dist/index.html console/node_modules
