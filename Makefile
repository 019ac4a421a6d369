# Idle Ember. `make demo` and `make test` are all that one needs on a machine with Go, Node and make.

BIN := bin/idleember
GO_SOURCES := $(shell find . -name '*.go' -not -path './console/node_modules/*' -not -path './.*') go.mod go.sum $(wildcard store/migrations/*) api/openapi.yaml api/zones.txt
CONSOLE_SOURCES := $(shell find console/src console/public console/first console/index.html console/*.ts console/package.json -type f)
VERSION ?= $(shell git describe --tags --always --dirty 2>/dev/null || echo dev)
LDFLAGS := -s -w -X idleember/serve.Version=$(VERSION)

.PHONY: help build demo dev check test test-go test-console test-e2e lint bench prove generate shots clean

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

check: console/node_modules/.made ## the answer for a small change, in under a minute
	./scripts/check

dev: console/node_modules/.made ## the demo with hub and console that follow each saved file
	./scripts/dev

test: need-test build test-go test-console test-e2e ## install what the tests need and run everything

.PHONY: need-test
need-test:
	@./scripts/need chromium=chromium mosquitto_pub=mosquitto-clients mosquitto_sub=mosquitto-clients strace=strace curl=curl g++=g++ \
	  socat=socat mbpoll=mbpoll /usr/sbin/mosquitto=mosquitto /usr/bin/python3=python3 /usr/lib/python3/dist-packages/serial=python3-serial \
	  certutil=libnss3-tools ssh-keygen=openssh-client /usr/lib/python3/dist-packages/pymodbus=python3-pymodbus /usr/lib/python3/dist-packages/serial_asyncio=python3-serial-asyncio \
	  /usr/lib/python3/dist-packages/zeroconf=python3-zeroconf /usr/lib/python3/dist-packages/cbor2=python3-cbor2 \
	  /usr/lib/python3/dist-packages/paho=python3-paho-mqtt /sbin/ip=iproute2 unshare=util-linux

# The whole house takes five times as long with the race detector: that is for make prove. One thread in virtual time cannot race.
RACED := $$(go list ./... | grep -v -e core/bottle -e idleember/tests -e idleember/cmd -e idleember/demo)

test-go: build
	go vet ./...
	go test -race -run '^$$' $(RACED) >/dev/null # builds on all cores, so that no test is held up by a compiler
	go test -run '^$$' ./tests ./cmd/... ./demo >/dev/null
	go test -race -p 2 -parallel 6 -timeout 15m $(RACED)
	go test -p 2 -parallel 6 -timeout 15m ./core/bottle ./tests ./cmd/... ./demo # most of what they do is wait

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
	go test -run '^$$' -bench . -benchtime 2s ./core/series ./core/engine ./core/bottle ./tests
	go test -run '^$$' -bench Ingest -benchtime 2000x ./store
	go test -run '^$$' -bench 'Size|Year|Start' -benchtime 5x -timeout 30m ./store
	cd console && FIGURES=1 npm run --silent e2e -- figures

prove: need-test build ## the long crash, takeover and soak tests; results go to docs/proof.md
	./scripts/prove

.PHONY: mutants
mutants: ## small changes of the deciding code, and whether the tests notice; results go to docs/mutants.md
	go run ./scripts/mutants -n 300 > docs/mutants.new && mv docs/mutants.new docs/mutants.md

RELEASE := bin/release
SBOM := github.com/CycloneDX/cyclonedx-gomod/cmd/cyclonedx-gomod@v1.10.0

.PHONY: release
release: console/dist/index.html ## binaries for arm64, armv7 and amd64, with signed checksums (RELEASE_KEY=FILE) and a list of what is in them, in bin/release
	rm -rf $(RELEASE) && mkdir -p $(RELEASE)
	CGO_ENABLED=0 GOOS=linux GOARCH=amd64 go build -trimpath -ldflags '$(LDFLAGS)' -o $(RELEASE)/idleember-linux-amd64 ./cmd/idleember
	CGO_ENABLED=0 GOOS=linux GOARCH=arm64 go build -trimpath -ldflags '$(LDFLAGS)' -o $(RELEASE)/idleember-linux-arm64 ./cmd/idleember
	CGO_ENABLED=0 GOOS=linux GOARCH=arm GOARM=7 go build -trimpath -ldflags '$(LDFLAGS)' -o $(RELEASE)/idleember-linux-armv7 ./cmd/idleember
	cp packaging/idleember.service packaging/release_keys LICENSE $(RELEASE)/
	go run $(SBOM) app -json -licenses -main cmd/idleember -output $(RELEASE)/sbom-go.cdx.json .
	cd console && npm sbom --sbom-format cyclonedx --sbom-type application --omit dev > ../$(RELEASE)/sbom-console.cdx.json
	./scripts/sign $(RELEASE)

.PHONY: audit
audit: console/node_modules/.made ## known weaknesses of what this is built from; asks databases on the internet
	go run golang.org/x/vuln/cmd/govulncheck@v1.9.0 ./...
	cd console && npm audit

.PHONY: fuzz
fuzz: ## every parser of what comes from outside, ten minutes each (FUZZTIME=10m)
	./scripts/fuzz $(or $(FUZZTIME),10m)

generate: console/node_modules/.made ## Go and TypeScript from api/openapi.yaml
	go generate ./contract ./api ./client
	cd console && npm run --silent contract

shots: build ## take the pictures in docs/screenshots again
	cd console && npm run --silent shots

clean: ## remove what was built
	rm -rf bin console/dist/assets console/dist/index.html console/node_modules
