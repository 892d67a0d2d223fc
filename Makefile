# Nivot. `make demo` and `make test` do everything on a fresh Debian machine.

.PHONY: demo demo-reset build test test-go test-e2e types bench bench-large soak fuzz setup shots clean

demo: build
	./bin/nivot demo

demo-reset: build
	./bin/nivot demo -fresh

setup:
	./scripts/setup.sh

build: setup web/dist/index.html
	go build -o bin/nivot ./cmd/nivot

web/dist/index.html: $(shell find web/src web/public docs/help -type f) web/index.html web/vite.config.ts web/package-lock.json
	cd web && npm run --silent build

# The routes and types that come from internal/api/openapi.yaml.
types:
	go generate ./internal/api
	cd web && npm run --silent types

test:
	./scripts/test.sh

test-go: setup
	go vet ./... && go test -race ./...

test-e2e: build
	cd e2e && npx playwright test

bench: build
	./bin/nivot bench -write docs/benchmarks.md

# What takes longer than ten minutes.
bench-large: build
	./bin/nivot bench -only large -write docs/benchmarks-large.md

# Random bundles through the running engines against the rehearsal, for SOAK (2h).
soak: setup
	NIVOT_SOAK=$${SOAK:-2h} go test -timeout 0 -run '^TestModel$$' ./internal/engine

fuzz: setup
	./scripts/fuzz.sh

shots: build
	./scripts/shots.sh

clean:
	rm -rf bin web/dist/assets web/dist/index.html* web/node_modules e2e/node_modules e2e/results
