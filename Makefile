# Targets: build, install, dist, tour, test, docs, screenshots, fuzz, bench.
GO      ?= go
PROGRAM := build/uncinate
PREFIX  ?= /usr/local
# The newest tag, or the commit where there is none.
VERSION ?= $(shell git describe --tags --match 'v[0-9]*' --dirty 2>/dev/null | sed 's/^v//' | grep . || echo 0.0.0+$$(git describe --always --dirty --exclude '*' 2>/dev/null | tr - . | grep . || echo unknown))

.PHONY: build install uninstall dist licences tour test portable soak stories story told works docs man screenshots fuzz bench

build:
	CGO_ENABLED=0 $(GO) build -trimpath -ldflags '-s -w -X uncinate/internal/screen.Version=$(VERSION)' -o $(PROGRAM) ./cmd/uncinate

# The program, its manual pages and what completes its words in bash, zsh and fish, below
# PREFIX; DESTDIR before it for whoever packs. See docs/install.md.
SHARE := $(DESTDIR)$(PREFIX)/share
COMPLETES := bash:bash-completion/completions/uncinate zsh:zsh/site-functions/_uncinate fish:fish/vendor_completions.d/uncinate.fish
install: man
	install -D -m 755 $(PROGRAM) $(DESTDIR)$(PREFIX)/bin/uncinate
	install -d $(SHARE)/man/man1 && install -m 644 build/man/man1/*.1 $(SHARE)/man/man1/
	for c in $(COMPLETES); do install -d "$$(dirname $(SHARE)/$${c#*:})" && $(PROGRAM) completion $${c%%:*} > $(SHARE)/$${c#*:} || exit 1; done

uninstall:
	rm -f $(DESTDIR)$(PREFIX)/bin/uncinate $(SHARE)/man/man1/uncinate.1 $(SHARE)/man/man1/uncinate-*.1
	for c in $(COMPLETES); do rm -f $(SHARE)/$${c#*:}; done

# Archives for six systems, a Debian package, checksums, and lists of what is linked in, in
# build/dist; the same commit gives the same bytes.
dist:
	scripts/needs git=git dpkg-deb=dpkg xz=xz-utils
	$(GO) run ./release dist -to build/dist

# The licences that "uncinate version --licences" shows; after a library is added or raised.
licences:
	$(GO) run ./release licences

# The main job, end to end, on the practice host with demo data.
tour:
	scripts/needs git=git ssh-keygen=openssh-client
	$(MAKE) --no-print-directory build
	$(PROGRAM) tour

# All tests, on real git and the real practice host, and a short look with the fuzzers.
test:
	scripts/needs git=git git-lfs=git-lfs bash=bash zsh=zsh fish=fish mandoc=mandoc busybox=busybox dash=dash ssh=openssh-client ssh-agent=openssh-client /usr/sbin/sshd=openssh-server strace=strace gnome-keyring-daemon=gnome-keyring dbus-run-session=dbus-daemon setsid=util-linux openssl=openssl systemd-analyze=systemd apache2=apache2-bin dropbear=dropbear-bin dpkg-deb=dpkg ssh-keygen=openssh-client
	$(GO) test -trimpath -count=1 -timeout 20m -parallel 4 ./...
	$(MAKE) --no-print-directory portable
	$(MAKE) --no-print-directory fuzz FOR=2000x

# The tests once more with what is made for other systems than this one, as far as it runs here:
# all but the tests of what those lack (a holder of secrets in memory, open files, holes, git's index
# read beside git, modes of files), of which docs/install.md tells.
LACKED := TestHolesAreSteppedOver|TestSurelyClean|TestBelow|TestHolder|TestInMemory|TestOthersMayNotWriteInTheFolder|TestThin
portable:
	$(GO) test -trimpath -count=1 -timeout 10m -tags portable -skip '^($(LACKED))$$' ./internal/world/... ./internal/desk/... ./internal/screen

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

# The stories' pages, printed as they are played.
told:
	UNCINATE_TOLD=1 $(GO) test -count=1 -run 'TestTold' ./e2e

# The page of what it was tried with, made from the tests that try it.
works:
	UNCINATE_WORKS=1 $(GO) test -count=1 -run 'TestWebServer|TestOpenSSHServers|TestDropbear|TestSHA256|TestAddressesAsGitReadsThem|TestServerKeysWithoutAccount|TestKeyOfOneRepository|TestAsGitGoes|TestEnvironments|TestHomes|TestSubmodulesBrought' ./e2e

# The reference pages and the schemas are made from the commands themselves.
docs: build
	$(PROGRAM) help --reference > docs/reference.md
	$(PROGRAM) help --schema > docs/json-schema.json
	$(PROGRAM) help --descriptions > docs/description-reference.md
	$(PROGRAM) help --description-schema > docs/description-schema.json
	$(GO) run ./release faults

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
	  $(GO) test -trimpath ./internal/$${t%:*} -run '^$$' -fuzz "^$${t#*:}$$" -fuzztime $(FOR) -fuzzminimizetime 10x || exit 1; done

# Paired against plain git in the same run; prints ratios. See docs/benchmarks.md.
bench: build
	scripts/needs rg=ripgrep
	$(GO) run ./bench -program $(PROGRAM)
