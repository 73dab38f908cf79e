package check

import (
	"slices"

	"mexalt/device"
	"mexalt/memory"
)

// Why rules have nothing to look at. Each says what the map or the image would have to give.

func unless(has bool, why string) string {
	if has {
		return ""
	}
	return why
}

func noRegion(c *checker) string {
	return unless(c.region != nil || len(c.m.Regions) > 0, "the map has no regions")
}

func (c *checker) anyRegion(has func(*device.Region) bool) bool {
	for r := range c.m.All() {
		if has(r) {
			return true
		}
	}
	return false
}

func noReserved(c *checker) string {
	return unless(c.anyRegion(func(r *device.Region) bool { return r.Role == device.Reserved }), "the map has no reserved region")
}

func noRequired(c *checker) string {
	return unless(c.anyRegion(func(r *device.Region) bool { return r.Required }), "the map requires no region")
}

func noHolds(c *checker) string {
	return unless(c.anyRegion(func(r *device.Region) bool { return len(r.Holds) > 0 }), "the map gives no contents of regions")
}

func noBootloader(c *checker) string {
	return unless(c.anyRegion(func(r *device.Region) bool { return r.Role == device.Bootloader }), "the map has no bootloader region")
}

func (c *checker) anyField(has func(*device.FieldValue) bool) bool {
	for i := range c.m.Config {
		for j := range c.m.Config[i].Fields {
			values := c.m.Config[i].Fields[j].Values
			if slices.ContainsFunc(values, func(v device.FieldValue) bool { return has(&v) }) {
				return true
			}
		}
	}
	return false
}

func noBootSection(c *checker) string {
	return unless(c.anyField(func(v *device.FieldValue) bool { return len(v.Sets) > 0 }), "no configuration field of the map sets a region")
}

func (c *checker) anyMemory(has func(*device.Memory) bool) bool {
	return slices.ContainsFunc(c.m.Memories, func(m device.Memory) bool { return has(&m) })
}

func noOneTime(c *checker) string {
	return unless(c.anyMemory(func(m *device.Memory) bool { return m.Kind == device.OTP }), "the map has no one-time memory")
}

func noGranule(c *checker) string {
	return unless(c.anyMemory(func(m *device.Memory) bool { return m.Granule > 1 }), "the map gives no granule")
}

func noPage(c *checker) string {
	return unless(c.anyMemory(func(m *device.Memory) bool { return m.Page > 1 }), "the map gives no page size")
}

func noSector(c *checker) string {
	return unless(c.anyMemory(func(m *device.Memory) bool { return len(m.Sectors) > 0 }), "the map gives no sectors")
}

func onePart(c *checker) string {
	return unless(len(c.parts) > 1, "there is one input")
}

func noMachine(c *checker) string {
	programs := slices.ContainsFunc(c.inputs, func(p Part) bool { return len(p.Programs) > 0 })
	switch {
	case c.m.Machine == "" && c.m.ByteOrder == "":
		return "the map names no machine"
	case !programs:
		return "no input is an ELF file"
	}
	return ""
}

func noStart(c *checker) string { return unless(len(c.m.Starts) > 0, "the map has no [start]") }

func noVectors(c *checker) string {
	vectors := slices.ContainsFunc(c.m.Starts, func(s device.Start) bool { return s.Kind == device.StartVectors })
	return unless(vectors, "the map has no [start] with vectors")
}

func noStartRecord(c *checker) string {
	has := slices.ContainsFunc(c.parts, func(p Part) bool { return p.Image != nil && p.Image.Start().Kind != memory.NoStart })
	return unless(has, "no input has a start address")
}

func noWords(c *checker) string {
	if len(c.m.Config) == 0 {
		return "the map has no configuration words"
	}
	given := slices.ContainsFunc(c.m.Config, func(w device.Word) bool { return w.GivenIn(c.part.Image).Known != 0 })
	return unless(given, "the image has no configuration words")
}

func noBoard(c *checker) string {
	if why := noWords(c); why != "" {
		return why
	}
	return unless(c.m.Board != nil, "no board is given")
}

func noWays(c *checker) string {
	if why := noBoard(c); why != "" {
		return why
	}
	return unless(len(c.m.Ports) > 0, "the map has no ports")
}

func noClock(c *checker) string {
	_, ok := c.m.Clock(c.wordValues())
	if !ok {
		return "neither the map nor a board says at which clock the device runs"
	}
	for r := range c.m.All() {
		if r.ClockAt != nil {
			return ""
		}
	}
	built := slices.ContainsFunc(c.inputs, func(p Part) bool { return p.BuiltFor > 0 })
	return unless(built, "nothing says for which clock a program was built")
}

func noChecksum(c *checker) string {
	return unless(len(c.m.Checksums) > 0, "the map declares no checksum")
}

func noGuard(c *checker) string {
	guards := slices.ContainsFunc(c.m.Checksums, func(k device.Checksum) bool { return k.Guards != "" })
	return unless(guards, "no checksum of the map guards a region")
}

func noIdentity(c *checker) string {
	return unless(c.m.IdentityAt != nil && len(c.m.Identities) > 0, "the map does not say where an image has its identity")
}
