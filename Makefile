# Everything a newcomer needs is in the first three targets; each does its own set-up.
.PHONY: example test generate bench build setup fuzz

GO ?= go
KELPLINE := build/kelpline-1.8.0.apk
SOURCES := $(shell find demo/kelpline -type f)

# The main job, done once on simulated phones; exits.
example: build
	@bin/tessellant example

# Everything there is to test.
test: setup $(KELPLINE)
	@scripts/test.sh

# The program and the demo's build.
build: setup $(KELPLINE)
	@echo "building the program"
	@CGO_ENABLED=0 $(GO) build -o bin/tessellant ./cmd/tessellant

# What is written by machine, from api/openapi.yaml.
generate:
	@$(GO) generate ./api

# Speed, as ratios against a named comparison; see bench/README.md.
bench: build
	@$(GO) run ./bench

# A few minutes of fuzzing for each parser of uploads.
fuzz: setup $(KELPLINE)
	@for f in FuzzRead FuzzParts; do $(GO) test ./internal/core/appfile -run '^$$' -fuzz "^$$f$$" -fuzztime 2m -fuzzminimizetime 1x || exit 1; done
	@$(GO) test ./internal/core/testpkg -run '^$$' -fuzz FuzzReadScript -fuzztime 2m -fuzzminimizetime 1x
	@$(GO) test ./internal/core/uitree -run '^$$' -fuzz FuzzParseAndroid -fuzztime 2m -fuzzminimizetime 1x

setup:
	@scripts/setup.sh

$(KELPLINE): $(SOURCES) | setup
	@echo "building Kelpline"
	@demo/kelpline/build.sh 1.8.0 231 $@
