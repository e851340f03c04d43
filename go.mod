module uncinate

go 1.26.0

require (
	filippo.io/age v1.3.2
	github.com/adrg/xdg v0.5.3
	github.com/creack/pty v1.1.24
	github.com/gofrs/flock v0.13.2
	github.com/google/renameio/v2 v2.0.2
	github.com/mattn/go-runewidth v0.0.31
	github.com/pelletier/go-toml/v2 v2.4.3
	github.com/stretchr/testify v1.12.1
	github.com/yosida95/uritemplate/v3 v3.0.2
	golang.org/x/sys v0.49.0
	golang.org/x/term v0.47.0
)

require (
	github.com/godbus/dbus/v5 v5.2.2
	github.com/santhosh-tekuri/jsonschema/v6 v6.0.3
	github.com/theory/jsonpath v0.12.3
	github.com/zalando/go-keyring v0.2.8
	go.yaml.in/yaml/v3 v3.0.6
	golang.org/x/crypto v0.55.0
	golang.org/x/mod v0.43.0
	golang.org/x/oauth2 v0.38.0
	golang.org/x/sync v0.25.0
)

require (
	filippo.io/edwards25519 v1.2.0 // indirect
	filippo.io/hpke v0.4.0 // indirect
	github.com/clipperhouse/uax29/v2 v2.2.0 // indirect
	github.com/danieljoos/wincred v1.2.3 // indirect
	golang.org/x/text v0.41.0 // indirect
)
