# What a newcomer needs: `make demo` and `make test`. Everything else serves these two.

CONSOLE_SOURCES := $(shell find console/src console/public console/index.html console/*.ts console/*.js -type f 2>/dev/null)

.PHONY: demo quick build test lint tools console api bench fuzz clean help

help: ## Show this list
	@grep -E '^[a-z]+:.*##' $(MAKEFILE_LIST) | sed -E 's/:.*## /\t/' | expand -t 12

demo: ## Build everything and run the Harrowmere catchment
	@scripts/install-packages postgresql
	@$(MAKE) --no-print-directory quick
	@exec target/debug/moorfall demo $(DEMO)

# Without optimization: a demo needs none, and the tests use what was built.
quick: console/dist/index.html
	cargo build --workspace --bin moorfall $(CARGO_FLAGS)

build: console/dist/index.html ## Build the program with its console
	cargo build --release --bin moorfall $(CARGO_FLAGS)

test: ## Check and test everything, from a clean clone
	@scripts/install-packages postgresql chromium chromium-driver openssl
	@$(MAKE) --no-print-directory lint
	cargo test --workspace --all-targets

lint: console/dist/index.html ## Format, lint and type checks of both halves
	cargo fmt --all --check
	cd console && npm run -s api:check && npm run -s check && npm run -s lint && npm run -s test
	cargo clippy --workspace --all-targets -- --deny warnings

console: console/dist/index.html ## Build the console

console/dist/index.html: console/node_modules/.package-lock.json $(CONSOLE_SOURCES)
	cd console && npm run -s build
	@touch $@

console/node_modules/.package-lock.json: console/package-lock.json
	cd console && npm ci --no-audit --no-fund --loglevel=error
	@touch $@

api: ## Write down the API that the service serves, and the console's types for it
	MOORFALL_UPDATE=1 cargo test --package moorfall-api --test openapi
	cd console && npm run -s api

bench: console/dist/index.html ## Measure Moorfall beside a bare relay and PostgreSQL (BENCH=name for some)
	@scripts/install-packages postgresql
	cargo build --profile dist --bin moorfall --bin moorfall-bench
	target/dist/moorfall-bench run --program target/dist/moorfall $(BENCH)

fuzz: ## Feed decode, session or sparkplug (TARGET) with bytes for a minute (needs cargo-fuzz)
	@mkdir -p fuzz/corpus/$(or $(TARGET),decode)
	RUSTC_BOOTSTRAP=1 cargo fuzz run $(or $(TARGET),decode) fuzz/corpus/$(or $(TARGET),decode) fuzz/seeds -- -max_total_time=$(or $(SECONDS),60) -max_len=4096

clean: ## Remove everything that was built
	rm -rf target fuzz/target console/dist console/node_modules
