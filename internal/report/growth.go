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

// GrowingModel is the sizes of one thing, by release; 0 is that it is not there.
type GrowingModel struct {
	Name  string   `json:"name"`
	Size  uint64   `json:"size,omitempty"` // of a region
	Bytes []uint64 `json:"bytes"`
}
