package report

// GrowthModel is growth for programs.
type GrowthModel struct {
	Schema   string         `json:"schema"`
	Releases []ReleaseName  `json:"releases"`
	Regions  []GrowingModel `json:"regions"`
	Parts    []GrowingModel `json:"parts"`
	Symbols  []GrowingModel `json:"symbols"`
}

// ReleaseName is a release and its manifest.
type ReleaseName struct {
	Name string `json:"name"`
	File string `json:"file"`
}

// GrowingModel is the size of one thing in each release; 0 if it does not exist.
type GrowingModel struct {
	Name  string   `json:"name"`
	Size  uint64   `json:"size,omitempty"` // of the region
	Bytes []uint64 `json:"bytes"`
}
