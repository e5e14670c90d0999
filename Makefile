# Everything a newcomer needs is in the first three targets; each does its own set-up.
.PHONY: demo example test generate bench build console setup fuzz fault race attack check-deps

GO ?= go
KELPLINE := build/kelpline-1.8.0.apk build/kelpline-1.9.0.apk build/kelpline-1.8.0.ipa build/kelpline-1.9.0.ipa
CHECK := internal/checkup/built/check.apk
KEYBOARD := internal/phone/android/built/keyboard.apk
CARRIED := $(CHECK) $(KEYBOARD)
SOURCES := $(shell find demo/kelpline -type f)
CONSOLE := $(shell find console/src -type f) console/index.html console/vite.config.ts

# The main job on simulated phones, and then the console; stays up until Ctrl-C.
demo: build
	@bin/tessellant demo

# The main job, done once on simulated phones; exits.
example: build
	@bin/tessellant example

# Everything there is to test.
test: setup $(KELPLINE) $(CARRIED) console/dist/index.html
	@scripts/test.sh

# The program in its two halves (the client, and what runs for long) with its console, and the demo's build.
build: setup $(KELPLINE) $(CARRIED) console/dist/index.html
	@echo "building the program"
	@CGO_ENABLED=0 $(GO) build -o bin/ ./cmd/...

# What is written by machine, from api/openapi.yaml.
generate: console/node_modules/.package-lock.json
	@$(GO) generate ./api
	@scripts/npm.sh run --silent types

# The app that a check of a device installs, which the program carries.
$(CHECK): $(shell find internal/checkup/app -type f) scripts/apk.sh | setup
	@echo "building the app of a check"
	@scripts/apk.sh internal/checkup/app 34 $@

# The keyboard that types any text, which the program carries. Later targets would have to say who may send to it in another way.
$(KEYBOARD): $(shell find internal/phone/android/keyboard -type f) scripts/apk.sh | setup
	@echo "building the keyboard"
	@scripts/apk.sh internal/phone/android/keyboard 33 $@

# The console's files, which the program carries.
console: console/dist/index.html

console/node_modules/.package-lock.json: console/package-lock.json | setup
	@echo "installing the console's packages"
	@scripts/npm.sh ci --loglevel error

console/dist/index.html: $(CONSOLE) console/node_modules/.package-lock.json
	@echo "building the console"
	@scripts/npm.sh run --silent build
	@touch $@

# Speed, as ratios against a named comparison; see bench/README.md.
bench: build
	@$(GO) run ./bench

# Runs in which one thing goes wrong at a random moment: killed, unplugged, away, stopped. About 15 minutes.
fault: build
	@$(GO) test ./internal/faults -run Campaign -rounds 65 -v -timeout 2h

# What an attacker and an unlucky client do, against a service that is up: tried, held, and what it cost. Some minutes, on loopback alone.
attack: build
	@$(GO) test ./internal/faults -run TestAttack -long -v -timeout 15m
	@$(GO) test ./internal/sandbox -run Escapes -all -v -timeout 15m
	@$(GO) test ./internal/script -run Escapes -v

# The tests under the race detector, but for the attacks: its own memory and time leave no bound that would mean anything. About 15 minutes.
race: setup $(KELPLINE) $(CARRIED) console/dist/index.html
	@command -v gcc >/dev/null || { echo "the race detector needs a C compiler: install Debian's gcc" >&2; exit 1; }
	@CGO_ENABLED=1 $(GO) test -race -count=1 -timeout 30m -skip "^TestAttack" ./internal/...

# Whether the modules are what go.sum says, and whether a vulnerability of theirs is known, where that can be asked.
check-deps: setup
	@scripts/check-deps.sh

# A few minutes of fuzzing for each parser of uploads, and of what devices say.
fuzz: setup $(KELPLINE)
	@for f in FuzzRead FuzzParts FuzzIPA FuzzPage; do $(GO) test ./internal/core/appfile -run '^$$' -fuzz "^$$f$$" -fuzztime 2m -fuzzminimizetime 1x || exit 1; done
	@$(GO) test ./internal/core/testpkg -run '^$$' -fuzz FuzzReadScript -fuzztime 2m -fuzzminimizetime 1x
	@for f in FuzzParseAndroid FuzzIOS FuzzHTML FuzzOurs FuzzLocators; do $(GO) test ./internal/core/uitree -run '^$$' -fuzz "^$$f$$" -fuzztime 2m -fuzzminimizetime 1x || exit 1; done
	@for p in phone/android adb; do $(GO) test ./internal/$$p -run '^$$' -fuzz FuzzSaid -fuzztime 2m -fuzzminimizetime 1x || exit 1; done
	@$(GO) test ./internal/core/foreign -run '^$$' -fuzz FuzzFit -fuzztime 30s -fuzzminimizetime 1x
	@for p in junit har; do $(GO) test ./internal/core/$$p -run '^$$' -fuzz FuzzRead -fuzztime 2m -fuzzminimizetime 1x || exit 1; done
	@$(GO) test ./internal/core/labfile -run '^$$' -fuzz FuzzParse -fuzztime 1m -fuzzminimizetime 1x
	@$(GO) test ./internal/core/catalogue -run '^$$' -fuzz FuzzRead -fuzztime 1m -fuzzminimizetime 1x
	@$(GO) test ./internal/proxy -run '^$$' -fuzz FuzzSniffed -fuzztime 1m -fuzzminimizetime 1x
	@$(GO) test ./internal/core/w3c -run '^$$' -fuzz FuzzRequests -fuzztime 2m -fuzzminimizetime 1x
	@$(GO) test ./internal/core/bidi -run '^$$' -fuzz FuzzMessages -fuzztime 1m -fuzzminimizetime 1x

setup:
	@scripts/setup.sh

build/kelpline-1.8.0.apk build/kelpline-1.8.0.ipa: CODE := 231
build/kelpline-1.9.0.apk build/kelpline-1.9.0.ipa: CODE := 240
build/kelpline-%.apk: $(SOURCES) | setup
	@echo "building Kelpline $* for Android"
	@mkdir -p $(dir $@)
	@flock $(dir $@)kelpline.lock demo/kelpline/build.sh $* $(CODE) $@

build/kelpline-%.ipa: $(SOURCES) demo/cloud.yaml | setup
	@echo "building Kelpline $* for iOS"
	@mkdir -p $(dir $@)
	@demo/kelpline/build.sh $* $(CODE) $@
