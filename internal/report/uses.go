package report

import (
	"mexalt/check"
	"mexalt/device"
	"mexalt/internal/render"
	"mexalt/memory"
)

// Uses tells which part uses how much of which region, and what all of them
// leave free there. The map is as it is for the whole image.
func Uses(p *render.Printer, m *device.Map, parts []memory.Part) {
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
	var rows [][]string
	for _, part := range parts {
		for _, u := range check.Uses(m, part.Image) {
			switch {
			case u.Used == 0:
			case u.Region == nil:
				rows = append(rows, []string{part.Name, "in no region", memory.FormatCount(u.Used), "", ""})
			default:
				size := u.Region.Span.Size()
				rows = append(rows, []string{part.Name, u.Region.Name, memory.FormatCount(u.Used), memory.FormatCount(size - used[u.Region.Name]), percent(u.Used, size)})
			}
		}
	}
	if len(rows) > 0 {
		p.Table([]string{"part", "region", "bytes used", "left free", "used"}, rows, 3, 4, 5)
	}
}
