# make demo and make test do all the set-up; both install Debian packages when root, and otherwise say what to install.

GO      ?= go
VERSION ?= $(shell git describe --tags --always --dirty 2>/dev/null || echo development)
FLAGS   := -tags nomsgpack -trimpath -ldflags "-s -w -X main.version=$(VERSION)"
PORT    ?= 2247

# Fuzz targets, as folder:name:executions of make fuzz, ten millions together. Their seeds run with the tests.
FUZZ := disk/fuzz:Qcow2:1000000 disk/fuzz:VMDK:1000000 disk/fuzz:VHD:1000000 disk/fuzz:VHDX:1000000 disk/fuzz:VDI:1000000 disk/fuzz:HDD:1000000 \
	disk/fuzz:Bundle:800000 inspect:Inside:400000 inspect:Archives:100000 inspect/hive:Hive:100000 salvage:Map:100000 inspect:LVM:100000 inspect/all:Volumes:100000 fingerprint:Tag:600000 transfer:Mark:600000 machine/all:Definitions:800000 machine/ovf:Package:200000 storage/archive:Archive:200000 storage/sftp:SparseMap:400000 nbd:Server:100000 nbd:Client:100000 routine:Routine:100000

# What the demo world and the tests take from Debian: tool:package.
DEMO_TOOLS := sfdisk:fdisk mkfs.ext4:e2fsprogs mkfs.vfat:dosfstools mcopy:mtools cmp:diffutils
# What makes the lighthouse of the demo a real host, where it can be installed.
REAL_TOOLS := libvirtd:libvirt-daemon libvirtd:libvirt-daemon-driver-qemu qemu-system-x86_64:qemu-system-x86
TEST_TOOLS := $(DEMO_TOOLS) $(REAL_TOOLS) chromium-headless-shell:chromium-headless-shell mkfs.xfs:xfsprogs mkfs.btrfs:btrfs-progs mkfs.ntfs:ntfs-3g mkfs.exfat:exfatprogs mount.exfat-fuse:exfat-fuse genisoimage:genisoimage pvcreate:lvm2 sshd:openssh-server sudo:sudo nbd-server:nbd-server ip:iproute2 ps:procps \
	libvirtd:ovmf \
	grub-mkimage:grub-common grub-mkimage:grub-pc-bin grub-mkimage:grub-efi-amd64-bin busybox:busybox-static cpio:cpio depmod:kmod xz:xz-utils lz4:lz4 bzip2:bzip2
BENCH_TOOLS := pigz:pigz zstd:zstd sshd:openssh-server sftp:openssh-client
PICTURE_TOOLS := $(TEST_TOOLS) xterm:xterm xvfb-run:xvfb xauth:xauth import:imagemagick

.PHONY: build console generate generated breaking demo start test check check-rooms check-whole lint race race-more clients fuzz torture bench site pictures dist dist-twice soak clean

build: console
	CGO_ENABLED=0 $(GO) build $(FLAGS) -o bin/ ./cmd/bagaglio ./cmd/standin

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

# Lint has vetted the code. What has not changed since it passed is not tested again, but for the whole, which waits more than it works: both go
# on side by side. The attacks measure how long answers take, and the line counts what it carries: they run alone.
TEST := $(GO) test -vet=off -ldflags=-s
# The tests of storage, of transfers and of what is seen of folders have their folders on the computer's drive. The others sync as often, to no purpose, and have theirs in
# memory where there is room for them; a service that is killed leaves there what it would leave on a drive.
IN_MEMORY := $(shell test "$$(df --output=avail -k /dev/shm 2>/dev/null | tail -1)" -gt 4000000 2>/dev/null && mkdir -p /dev/shm/bagaglio-tests && \
	echo TMPDIR=/dev/shm/bagaglio-tests)
ON_DRIVE := ./core/storage/... ./core/transfer/... ./internal/rounds
# Memory is measured alone too: where others load the computer, garbage is collected later.
MEASURED := TestALargeDiskTakesLittleMemory
WHOLE := ./test/crash ./test/service ./test/cli ./test/console ./test/bench ./test/pictures
check:
	cd web && npm test
	$(MAKE) -j2 check-rooms check-whole
	$(IN_MEMORY) $(TEST) -count=1 -p 1 -parallel 6 ./test/attack ./test/line
	$(IN_MEMORY) $(TEST) -count=1 -run '$(MEASURED)' ./test/cli
check-rooms:
	$(TEST) $(ON_DRIVE)
	$(IN_MEMORY) $(TEST) $$($(GO) list ./api/... ./client/... ./cmd/... ./core/... ./internal/... | grep -Ev '/(core/storage|core/transfer|internal/rounds)(/|$$)')
check-whole:
	$(IN_MEMORY) $(TEST) -count=1 -p 2 -parallel 4 -timeout 14m -skip '$(MEASURED)' $(WHOLE)

# Where several things go on at a time. The service with the detector takes long to build: make torture has that, and the steps.
race:
	$(IN_MEMORY) $(TEST) -race -short ./core/transfer
race-more:
	$(IN_MEMORY) $(TEST) -race -short \
		-skip 'Famil|Rot|PowerCut|CutIs|Pieces|Older|ARename|GoAlong|Compacting|HandOver|Definition|CalledOff|MovesGoOn|Copies|EveryLayout|Anew|Layouts|Chains|TheSame|Overlay|EveryKind|Asked' \
		./core/step/disks
	$(IN_MEMORY) $(TEST) -race ./core/disk/all -run 'TestWritesInAnyOrder/(raw-thin|qcow2-thin|vmdk-split-sparse)$$'
	$(IN_MEMORY) BAGAGLIO_RACE=1 $(TEST) -count=1 -run 'EveryAnswer|PausedJobs|LimitsAndOrder|OneWriter|FollowEnds' ./test/service

# The client for systems that the service does not run on: it builds, and its storage does what all others do.
clients:
	for on in darwin/arm64 windows/amd64; do GOOS=$${on%/*} GOARCH=$${on#*/} $(GO) build -o /dev/null ./cmd/bagaglio || exit 1; done
	$(TEST) -tags elsewhere ./core/storage/all -run '^(TestFilesAreMadeAndNamed|TestFoldersComeAndGo|TestNamesNeverLeave|TestListTells|TestLargeReadsAndWrites|TestSpecialFiles)$$/^local$$'

# What has changed in the API since the last release so that its users have to change too.
breaking:
	@last=$$(git describe --tags --abbrev=0 2>/dev/null) || { echo "There was no release yet."; exit 0; }; \
	mkdir -p bin && git show $$last:api/openapi.yaml > bin/last-release.yaml && $(GO) tool -modfile=tools.mod oasdiff breaking bin/last-release.yaml api/openapi.yaml

lint: console generated
	@test -z "$$(gofmt -l $$(git ls-files '*.go'))" || { gofmt -d $$(git ls-files '*.go'); exit 1; }
	$(GO) tool -modfile=tools.mod golangci-lint run
	cd web && REDOCLY_TELEMETRY=off REDOCLY_SUPPRESS_UPDATE_NOTICE=true npm run lint

# Takes about half an hour on two cores. What is found is kept as a seed, in testdata beside the target.
fuzz:
	for f in $(FUZZ); do t=$${f#*:}; n=$${t#*:}; $(GO) test ./core/$${f%%:*} -run xxx -fuzz "Fuzz$${t%:*}\$$" -fuzztime $${n}x -fuzzminimizetime 50x || exit 1; done

# Kills the service 300 times, at random moments and at every named point, over all layouts; carries the families of 300 random worlds about; and does all of
# the tables of which make test does a part, another one each time (internal/testkit/fewer).
torture: race-more clients
	BAGAGLIO_ALL=1 $(GO) test -count=1 -timeout 60m ./core/step/... ./test/crash ./test/service
	BAGAGLIO_KILLS=300 $(GO) test -count=1 -timeout 60m -v -run "TestKilledAtAnyMoment|TestALongQueue|TestALiveMoveIsKilled|TestAMoveWithAShortStopIsKilled" ./test/crash
	BAGAGLIO_WORLDS=300 $(GO) test -count=1 -timeout 60m -v -run TestFamilies ./core/step/disks

bench: packages-bench build
	$(GO) run ./test/bench
	BAGAGLIO_BENCH=1 $(GO) test -count=1 -v -timeout 30m -run TestSpeed ./test/line

# Ten minutes of jobs while many look on: does the service take more and more memory?
soak: build
	$(GO) run ./test/bench -soak 10m -mib 256

# The documents as pages for a browser, in dist/site.
site:
	cd docs && npm ci --no-audit --no-fund && npm run build

pictures: packages-picture build
	BAGAGLIO_PICTURES=1 $(GO) test -count=1 ./test/pictures

# What is given away: archives, packages, checksums, and a list of what is in it. dist-twice makes it twice, and compares.
dist: packages-dist console
	GO=$(GO) packaging/dist.sh
dist-twice: dist
	mkdir -p bin && mv dist/SHA256SUMS bin/first-sums && GO=$(GO) packaging/dist.sh > /dev/null && cmp bin/first-sums dist/SHA256SUMS && echo "Both times the same."

clean:
	rm -rf bin dist web/dist/app web/node_modules

packages-demo: TOOLS = $(DEMO_TOOLS)
packages-demo: MORE = $(REAL_TOOLS)
packages-test: TOOLS = $(TEST_TOOLS)
packages-dist: TOOLS = gzip:gzip tar:tar
packages-bench: TOOLS = $(BENCH_TOOLS)
packages-picture: TOOLS = $(PICTURE_TOOLS)
packages-%:
	@command -v $(GO) >/dev/null || { echo "Go is missing: install Go 1.26 or later"; exit 1; }
	@command -v npm >/dev/null || { echo "npm is missing: install Node.js 20 or later"; exit 1; }
	@missing=""; PATH="$$PATH:/usr/sbin:/sbin"; for t in $(TOOLS); do command -v $${t%%:*} >/dev/null || missing="$$missing $${t##*:}"; done; \
	if [ -z "$$missing" ]; then exit 0; fi; \
	if [ "$$(id -u)" = 0 ] && command -v apt-get >/dev/null; then apt-get update -qq && DEBIAN_FRONTEND=noninteractive apt-get install -y -qq --no-install-recommends $$missing >/dev/null; \
	else echo "These Debian packages are missing:$$missing"; echo "As root: apt-get install$$missing"; exit 1; fi
	@missing=""; for t in $(MORE); do command -v $${t%%:*} >/dev/null || missing="$$missing $${t##*:}"; done; \
	if [ -z "$$missing" ]; then exit 0; fi; \
	if [ "$$(id -u)" = 0 ] && command -v apt-get >/dev/null; then DEBIAN_FRONTEND=noninteractive apt-get install -y -qq --no-install-recommends $$missing >/dev/null || true; fi
