package report

import (
	"mexalt/check"
	"mexalt/device"
	"mexalt/internal/render"
	"mexalt/memory"
)

// PartUse is how much of a region an input uses, and what all inputs leave free there.
type PartUse struct {
	Part   string `json:"part"`
	Region string `json:"region"` // "" if it is in none
	Size   uint64 `json:"size"`   // of the region
	Used   uint64 `json:"used"`
	Free   uint64 `json:"free"`
}

// UsesOf tells which part uses how much of which region. The map is as it is for
// the whole image.
func UsesOf(m *device.Map, parts []memory.Part) []PartUse {
	images := make([]*memory.Image, len(parts))
	for i, part := range parts {
		images[i] = part.Image
	}
	whole, _ := memory.Merge(images, memory.First)
	used := map[string]uint64{}
	for _, u := range check.Uses(m, whole) {
		if u.Region != nil {
			used[u.Region.Name] = u.Used
		}
	}
	var list []PartUse
	for _, part := range parts {
		for _, u := range check.UsesWithin(m, part.Image) {
			switch {
			case u.Used == 0:
			case u.Region == nil:
				list = append(list, PartUse{Part: part.Name, Used: u.Used})
			default:
				size := u.Region.Span.Size()
				list = append(list, PartUse{part.Name, u.Region.Name, size, u.Used, size - used[u.Region.Name]})
			}
		}
	}
	return list
}

// UsesText prints the uses as a table.
func UsesText(p *render.Printer, uses []PartUse) {
	var rows [][]string
	for _, u := range uses {
		if u.Region == "" {
			rows = append(rows, []string{u.Part, "in no region", memory.FormatCount(u.Used), "", ""})
			continue
		}
		rows = append(rows, []string{u.Part, u.Region, memory.FormatCount(u.Used), memory.FormatCount(u.Free), Percent(u.Used, u.Size)})
	}
	if len(rows) > 0 {
		p.Table([]string{"part", "region", "bytes used", "left free", "used"}, rows, 3, 4, 5)
	}
}
