# Nivot. `make demo` and `make test` do everything on a fresh Debian machine.

.PHONY: help demo demo-reset dev build test test-go test-e2e types bench bench-large soak fuzz setup shots clean

help: ## this list
	@awk -F ':.*## ' '/^[a-z0-9-]+:.*## / { printf "  make %-12s %s\n", $$1, $$2 }' Makefile

demo: build ## run everything with the demo data
	./bin/nivot demo

demo-reset: build ## the same, begun anew
	./bin/nivot demo -fresh

dev: setup ## the demo for who changes it: built and shown anew at each change
	./scripts/dev.sh

setup: ## install what is missing
	./scripts/setup.sh

build: setup web/dist/index.html ## build bin/nivot
	go build -o bin/nivot ./cmd/nivot

web/dist/index.html: $(shell find web/src web/public docs/help -type f) web/index.html web/vite.config.ts web/package-lock.json
	cd web && npm run --silent build

types: ## make the routes and the front end's types from internal/api/openapi.yaml
	go generate ./internal/api
	cd web && npm run --silent types

test: ## everything that must pass
	./scripts/test.sh

test-go: setup ## the Go tests alone
	go vet ./... && go test -race -timeout 20m ./...

test-e2e: build ## the browser's tests alone
	cd e2e && npx playwright test

bench: build ## measure speed, and write docs/benchmarks.md
	./bin/nivot bench -write docs/benchmarks.md

bench-large: build ## measure what takes longer, and write docs/benchmarks-large.md
	./bin/nivot bench -only large -write docs/benchmarks-large.md

soak: ## a cluster whose nodes fall silent; random bundles through the running engines, for SOAK (2h)
	./scripts/setup.sh galera-4
	NIVOT_SOAK=$${SOAK:-2h} go test -timeout 0 -run '^TestCluster$$' ./internal/database
	NIVOT_SOAK=$${SOAK:-2h} go test -timeout 0 -run '^(TestNodes|TestModel$$)' ./internal/engine

fuzz: setup ## fuzz every parser and every operation
	./scripts/fuzz.sh

shots: build ## take the pictures of the docs anew
	./scripts/shots.sh

clean: ## remove what was built
	rm -rf bin web/dist/assets web/dist/index.html* web/node_modules e2e/node_modules e2e/results
