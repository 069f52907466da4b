# make demo and make test do all the set-up; both install Debian packages when root, and otherwise say what to install.

GO      ?= go
VERSION ?= $(shell git describe --tags --always --dirty 2>/dev/null || echo development)
FLAGS   := -tags nomsgpack -trimpath -ldflags "-s -w -X main.version=$(VERSION)"
PORT    ?= 2247

# Fuzz targets, as folder:name:times that each runs with the tests, which is two or three seconds. (By time, go test now and then fails when it is over.)
FUZZ := disk/all:Qcow2:2000 disk/all:VMDK:2000 disk/all:VHD:5000 disk/all:VHDX:5000 disk/all:VDI:8000 disk/all:HDD:8000 disk/all:Bundle:3000 \
	inspect:Inside:20000 fingerprint:Tag:40000 transfer:Mark:40000 machine/all:Definitions:4000 storage/sftp:SparseMap:40000
fuzzed = for f in $(FUZZ); do t=$${f\#*:}; n=$${t\#*:}; $(GO) test ./core/$${f%%:*} -run xxx -fuzz "Fuzz$${t%:*}\$$" -fuzztime $(1) -fuzzminimizetime 50x || exit 1; done

# What the demo world and the tests take from Debian: tool:package.
DEMO_TOOLS := sfdisk:fdisk mkfs.ext4:e2fsprogs mkfs.vfat:dosfstools mcopy:mtools cmp:diffutils
TEST_TOOLS := $(DEMO_TOOLS) chromium:chromium mkfs.xfs:xfsprogs mkfs.btrfs:btrfs-progs sshd:openssh-server ip:iproute2 ps:procps
BENCH_TOOLS := pigz:pigz zstd:zstd sshd:openssh-server sftp:openssh-client
PICTURE_TOOLS := $(TEST_TOOLS) xterm:xterm xvfb-run:xvfb xauth:xauth import:imagemagick

.PHONY: build console generate generated demo start test check lint race fuzz bench pictures clean

build: console
	CGO_ENABLED=0 $(GO) build $(FLAGS) -o bin/bagaglio ./cmd/bagaglio

# The console is built from its lock file, and again when something in it has changed.
console: web/dist/app/index.html
web/dist/app/index.html: web/node_modules/.installed api/openapi.yaml $(shell find web/src web/public web/index.html web/vite.config.ts -type f -not -name '*.gen.ts')
	cd web && npm run build
web/node_modules/.installed: web/package-lock.json
	cd web && npm ci --no-audit --no-fund
	touch $@

generate:
	$(GO) generate ./api

# What is generated from api/openapi.yaml is what is committed.
generated: generate
	git diff --exit-code -- '*.gen.go'

demo: packages-demo build
	bin/bagaglio demo

start: packages-demo build
	bin/bagaglio demo --stay --listen 127.0.0.1:$(PORT)

test: packages-test console lint check race

# Of those of the whole, some kill processes at moments that they measure, or look at pages: they run in turns, the others side by side.
SIDE_BY_SIDE := ./test/cli ./test/service
check:
	$(GO) test -count=1 ./api/... ./client/... ./cmd/... ./core/... ./internal/...
	$(GO) test -count=1 -parallel 6 ./test/attack
	$(GO) test -count=1 -p 2 $(SIDE_BY_SIDE)
	$(GO) test -count=1 -p 1 ./test/bench ./test/console ./test/crash ./test/line ./test/pictures
	$(call fuzzed,$${n}x)

# What has only one thing going on at a time is left out.
race:
	$(GO) test -race -short -count=1 -skip 'Famil|Rot|PowerCut|CutIs|Pieces|Older|ARename|GoAlong|Compacting|HandOver|Definition|CalledOff|MovesGoOn' ./core/transfer ./core/job
	BAGAGLIO_RACE=1 $(GO) test -count=1 -run 'EveryAnswer|PausedJobs|LimitsAndOrder|OneWriter|Follow' ./test/service
	$(GO) test -race -count=1 ./core/disk/all -run 'TestWritesInAnyOrder/(raw-thin|qcow2-thin|qcow2-compressed|qcow2-overlay|vmdk-split-sparse|vmdk-stream|vhdx-differencing)$$'

lint: console generated
	@test -z "$$(gofmt -l $$(git ls-files '*.go'))" || { gofmt -d $$(git ls-files '*.go'); exit 1; }
	$(GO) vet ./...
	$(GO) tool -modfile=tools.mod staticcheck ./...
	$(GO) tool -modfile=tools.mod golangci-lint run
	cd web && npm run lint

fuzz:
	$(call fuzzed,10m)

# Kills the service 300 times, at random moments and at every named point, over all layouts; and carries the families of 300 random worlds about.
torture:
	BAGAGLIO_KILLS=300 $(GO) test -count=1 -timeout 60m -v -run TestKilledAtAnyMoment ./test/crash
	BAGAGLIO_WORLDS=300 $(GO) test -count=1 -timeout 60m -v -run TestFamilies ./core/job

bench: packages-bench build
	$(GO) run ./test/bench
	BAGAGLIO_BENCH=1 $(GO) test -count=1 -v -timeout 30m -run TestSpeed ./test/line

pictures: packages-picture build
	BAGAGLIO_PICTURES=1 $(GO) test -count=1 ./test/pictures

clean:
	rm -rf bin web/dist/app web/node_modules

packages-demo: TOOLS = $(DEMO_TOOLS)
packages-test: TOOLS = $(TEST_TOOLS)
packages-bench: TOOLS = $(BENCH_TOOLS)
packages-picture: TOOLS = $(PICTURE_TOOLS)
packages-%:
	@command -v $(GO) >/dev/null || { echo "Go is missing: install Go 1.26 or later"; exit 1; }
	@command -v npm >/dev/null || { echo "npm is missing: install Node.js 20 or later"; exit 1; }
	@missing=""; PATH="$$PATH:/usr/sbin:/sbin"; for t in $(TOOLS); do command -v $${t%%:*} >/dev/null || missing="$$missing $${t##*:}"; done; \
	if [ -z "$$missing" ]; then exit 0; fi; \
	if [ "$$(id -u)" = 0 ] && command -v apt-get >/dev/null; then apt-get update -qq && DEBIAN_FRONTEND=noninteractive apt-get install -y -qq --no-install-recommends $$missing >/dev/null; \
	else echo "These Debian packages are missing:$$missing"; echo "As root: apt-get install$$missing"; exit 1; fi
