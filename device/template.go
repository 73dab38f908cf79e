package device

import _ "embed"

// Template is a commented map to start from.
//
//go:embed template.device.toml
var Template string

// Schema is a JSON Schema of device maps, for editors.
//
//go:embed schema.json
var Schema string
