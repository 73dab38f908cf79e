package check

import (
	"cmp"
	"path/filepath"
	"slices"
	"strings"

	"mexalt/device"
)

// Places names the regions for which a file of raw bytes may be meant: the one that
// its name names, else those in which so many bytes fit, the tightest first.
func Places(m *device.Map, file string, size uint64) []string {
	if m == nil {
		return nil
	}
	const few = 3
	stem := strings.ToLower(filepath.Base(file))
	var fits []*device.Region
	for r := range m.All() {
		mem := m.MemoryAt(r.Span.First)
		if r.Role == device.Reserved || r.Span.Size() < size || mem == nil || !mem.Programmable() {
			continue
		}
		if strings.Contains(stem, strings.ToLower(r.Name)) {
			return []string{r.Name}
		}
		fits = append(fits, r)
	}
	slices.SortStableFunc(fits, func(a, b *device.Region) int { return cmp.Compare(a.Span.Size(), b.Span.Size()) })
	var names []string
	for _, r := range fits[:min(few, len(fits))] {
		names = append(names, r.Name)
	}
	return names
}
