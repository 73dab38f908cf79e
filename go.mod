module mexalt

go 1.26.0

require (
	codeberg.org/go-fonts/liberation v0.6.0
	github.com/CycloneDX/cyclonedx-go v0.12.0
	github.com/creack/pty v1.1.24
	github.com/fatih/color v1.19.0
	github.com/fsnotify/fsnotify v1.10.1
	github.com/gofrs/flock v0.13.2
	github.com/google/renameio/v2 v2.0.2
	github.com/hbollon/go-edlib v1.7.0
	github.com/ianlancetaylor/demangle v0.0.0-20260724033716-83e58baca724
	github.com/in-toto/attestation v1.2.0
	github.com/invopop/jsonschema v0.14.0
	github.com/jedib0t/go-pretty/v6 v6.9.2
	github.com/pelletier/go-toml/v2 v2.4.3
	github.com/santhosh-tekuri/jsonschema/v6 v6.0.3
	github.com/secure-systems-lab/go-securesystemslib v0.11.1
	github.com/stretchr/testify v1.12.1
	golang.org/x/crypto v0.59.0
	golang.org/x/image v0.48.0
	golang.org/x/mod v0.43.0
	golang.org/x/sync v0.25.0
	golang.org/x/sys v0.50.0
	golang.org/x/term v0.48.0
	google.golang.org/protobuf v1.36.12
)

require (
	github.com/bahlo/generic-list-go v0.2.0 // indirect
	github.com/buger/jsonparser v1.6.1 // indirect
	github.com/clipperhouse/uax29/v2 v2.2.0 // indirect
	github.com/mattn/go-colorable v0.1.14 // indirect
	github.com/mattn/go-isatty v0.0.20 // indirect
	github.com/mattn/go-runewidth v0.0.31 // indirect
	github.com/pb33f/go-yaml v0.1.1 // indirect
	github.com/pb33f/ordered-map/v2 v2.3.2 // indirect
	github.com/rivo/uniseg v0.4.7 // indirect
	go.yaml.in/yaml/v3 v3.0.6 // indirect
	golang.org/x/text v0.44.0 // indirect
)
