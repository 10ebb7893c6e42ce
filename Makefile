# Kanban. On a fresh machine `make demo` and `make test` do everything, installing
# what is missing first.

SHELL := /bin/bash
CONSOLE_SOURCES := $(shell find console/src console/index.html console/vite.config.ts console/texts.ts console/package-lock.json -type f 2>/dev/null)

# What has goroutines of its own is tested with the race detector every time; everything is in `make soak`.
CONCURRENT := ./internal/adapter/... ./internal/client ./internal/core/... ./internal/service ./internal/standin/... ./internal/wire/... ./internal/worker

.PHONY: help demo test bench soak audit notices lint dev build console generate check-generated setup screenshots clean

help: ## Show what can be made
	@grep -hE '^[a-z-]+:.*## ' $(MAKEFILE_LIST) | sed -E 's/:.*## /\t/' | expand -t 18

demo: build ## Start everything with the demo school and play the whole story
	bin/kanban demo $(ARGS)

test: setup console/dist/index.html check-generated ## Run every test
	cd console && npx vue-tsc --noEmit && npx vitest run
	go vet ./...
	go run ./internal/store/storetest/shared go test -race -timeout 15m $(CONCURRENT)
	go run ./internal/store/storetest/shared go test -timeout 20m $$(go list ./... | grep -vxE 'kanban/internal(/e2e|/notices)?' | grep -vxF "$$(go list $(CONCURRENT))")
	go test -timeout 40m -count=1 -parallel 5 ./internal ./internal/notices ./internal/e2e # they look at the whole tree, which the test cache cannot see

bench: setup console/dist/index.html ## Run the benchmarks and print one table: figure, goal, ratio
	scripts/bench.sh

soak: setup console/dist/index.html ## Kill, feed damaged input, run everything with race; RUNS=10 BUSY=5 for more
	scripts/soak.sh

audit: setup ## Look for known vulnerabilities in what Kanban is made of
	@scripts/audit.sh

notices: setup ## Write THIRD_PARTY_NOTICES.md anew
	go test -count=1 ./internal/notices -update

lint: setup console/dist/index.html ## Check form and style of all code
	@test -z "$$(gofmt -l cmd internal console/*.go)" || { echo "not formatted:"; gofmt -l cmd internal console/*.go; exit 1; }
	@test -z "$$(go tool gofumpt -l cmd internal console/*.go)" || { echo "gofumpt would change:"; go tool gofumpt -l cmd internal console/*.go; exit 1; }
	go vet ./...
	go tool staticcheck ./...
	cd console && npx eslint src test && npx prettier --check src test && npx vue-tsc --noEmit
	@go run ./cmd/kanban openapi > console/openapi.json
	@cd console && REDOCLY_TELEMETRY=off REDOCLY_SUPPRESS_UPDATE_NOTICE=true npx redocly lint --extends=recommended-strict openapi.json; \
		s=$$?; rm -f openapi.json; exit $$s

dev: build ## Run the service and the console's development server side by side
	trap 'kill 0' EXIT; bin/kanban serve & cd console && npm run dev

build: setup console/dist/index.html ## Build the programs into bin/
	@mkdir -p bin
	go build -o bin/ ./cmd/...

console: setup console/dist/index.html ## Build the console

console/dist/index.html: $(CONSOLE_SOURCES)
	@scripts/setup.sh build
	cd console && npx vite build --logLevel warn
	@touch $@

generate: setup console/dist/index.html ## Make the console's typed client from the API's description
	go run ./cmd/kanban openapi > console/openapi.json
	cd console && npx openapi-typescript openapi.json -o src/api/schema.d.ts
	rm console/openapi.json

check-generated: setup console/dist/index.html
	@go run ./cmd/kanban openapi > console/openapi.json
	@cd console && npx openapi-typescript openapi.json -o openapi.d.ts >/dev/null
	@cd console && { cmp openapi.d.ts src/api/schema.d.ts || { rm -f openapi.json openapi.d.ts; echo "console/src/api/schema.d.ts is stale: run make generate"; exit 1; }; }
	@rm -f console/openapi.json console/openapi.d.ts

setup:
	@scripts/setup.sh

screenshots: build ## Take the pictures of docs/screenshots anew
	KANBAN_PICTURES=$(CURDIR)/docs/screenshots go test -count=1 -run TestConsole ./internal/e2e
	scripts/terminal-pictures.sh docs/screenshots

clean: ## Remove what was built
	rm -rf bin console/dist/assets console/dist/index.html console/node_modules
