package device

import _ "embed"

// Template is a commented map to start from.
//
//go:embed template.device.toml
var Template string
