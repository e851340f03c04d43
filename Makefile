# Targets: build, tour, test, check, bench, docs, screenshots.
GO      ?= go
PROGRAM := build/uncinate

.PHONY: build tour test check docs screenshots needs

build:
	CGO_ENABLED=0 $(GO) build -trimpath -ldflags '-s -w' -o $(PROGRAM) ./cmd/uncinate

tour: build
	$(PROGRAM) tour
