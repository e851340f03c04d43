# Targets: build, tour, test, docs, screenshots, fuzz, bench.
GO      ?= go
PROGRAM := build/uncinate

.PHONY: build tour test soak stories story works docs man screenshots fuzz bench

build:
	CGO_ENABLED=0 $(GO) build -trimpath -ldflags '-s -w' -o $(PROGRAM) ./cmd/uncinate

# The main job, end to end, on the practice host with demo data.
tour: build
	scripts/needs git=git
	$(PROGRAM) tour

# All tests, on real git and the real practice host, and a short look with the fuzzers.
test:
	scripts/needs git=git git-lfs=git-lfs bash=bash zsh=zsh fish=fish mandoc=mandoc busybox=busybox dash=dash ssh=openssh-client ssh-agent=openssh-client /usr/sbin/sshd=openssh-server strace=strace gnome-keyring-daemon=gnome-keyring dbus-run-session=dbus-daemon setsid=util-linux openssl=openssl systemd-analyze=systemd apache2=apache2-bin dropbear=dropbear-bin
	$(GO) test -count=1 -timeout 20m -parallel 4 ./...
	$(MAKE) --no-print-directory fuzz FOR=2000x

# Every case of the tests that interrupt an attach, of which make test plays a seeded choice,
# and random stories of three machines: STORIES is a number of commands, or a time such as
# 20m, SEED the number from which they are drawn (another one each time unless given).
STORIES ?= 5000
soak:
	scripts/needs git=git git-lfs=git-lfs ssh=openssh-client /usr/sbin/sshd=openssh-server strace=strace
	UNCINATE_SOAK=1 $(GO) test -count=1 -timeout 60m -run 'TestTrouble|TestMoveCutOff|TestSyncKilled|TestStoriesFind|TestKilledAtEveryStep|TestLocalWorkOnAFullDisk|TestBranchWorkGoesOn|TestRescueBringKilled|TestDrawnConfigurations|TestManyAtOnce|TestEveryClash|TestSettleKilled|TestOffersOnce|TestOfferFromACopyOnce' -v ./e2e | grep -v '^=== '
	UNCINATE_SOAK=1 $(GO) test -count=1 -timeout 60m -run TestDrawnMeetings -v ./internal/desk/worktree
	$(MAKE) --no-print-directory stories STORIES=$(STORIES) SEED=$(SEED)

stories:
	UNCINATE_STORIES=$(STORIES) UNCINATE_SEED=$(SEED) $(GO) test -count=1 -timeout 6h -run 'TestStories$$' -v ./e2e

# One story, from a file of its lines: what each command prints, and what is found.
story:
	UNCINATE_STORY=$(abspath $(FILE)) $(GO) test -count=1 -run 'TestOneStory$$' -v ./e2e

# The page of what it was tried with, made from the tests that try it.
works:
	UNCINATE_WORKS=1 $(GO) test -count=1 -run 'TestWebServer|TestOpenSSHServers|TestDropbear|TestSHA256|TestAddressesAsGitReadsThem|TestServerKeysWithoutAccount|TestKeyOfOneRepository|TestAsGitGoes|TestEnvironments|TestHomes|TestSubmodulesBrought' ./e2e

# The reference pages and the schemas are made from the commands themselves.
docs: build
	$(PROGRAM) help --reference > docs/reference.md
	$(PROGRAM) help --schema > docs/json-schema.json
	$(PROGRAM) help --descriptions > docs/description-reference.md
	$(PROGRAM) help --description-schema > docs/description-schema.json

# The manual pages, made from the commands too; put them on your MANPATH.
man: build
	$(PROGRAM) help --man build/man/man1

screenshots: build
	scripts/screenshots

# A longer look for what breaks the readers of foreign input; FOR says how long each, or how
# many inputs (2000x): by a number of inputs the end never comes in the middle of one.
FOR ?= 30s
fuzz:
	for t in core/address:FuzzParse core/gitcred:FuzzRead core/sshkey:FuzzRead core/authkeys:FuzzRemove core/plan:FuzzRead core/description:FuzzLoad core/description:FuzzRead core/description:FuzzParseXML \
	  core/secrets:FuzzRead core/ignore:FuzzWild core/handover:FuzzParse world/tree:FuzzReadKnown core/draft:FuzzFromOpenAPI core/difference:FuzzParse world/web:FuzzParseRefs world/web:FuzzParseAdvertisement world/netrc:FuzzScan world/git:FuzzIndexEntries; do \
	  $(GO) test ./internal/$${t%:*} -run '^$$' -fuzz "^$${t#*:}$$" -fuzztime $(FOR) -fuzzminimizetime 10x || exit 1; done

# Paired against plain git in the same run; prints ratios. See docs/benchmarks.md.
bench: build
	scripts/needs rg=ripgrep
	$(GO) run ./bench -program $(PROGRAM)
