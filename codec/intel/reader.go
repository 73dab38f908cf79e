package intel

import (
	"bytes"
	"fmt"
	"io"

	"mexalt/codec/format"
	"mexalt/codec/record"
	"mexalt/memory"
	"mexalt/source"
)

// Read reads a file to its end. What is wrong with it is added to problems;
// where that holds an error, the file yields no image. The error returned is
// one of r's.
func Read(r io.Reader, in *source.Input, o format.ReadOptions, problems *source.Problems) (*format.Content, error) {
	g := &reader{Reader: record.Reader{ReadOptions: o, Input: in, Problems: problems, Word: "hex"}}
	g.Stats.TypeNames = typeNames[:]
	g.unit = g.BytesPerAddress()
	lines, err := record.Scan(r, g, o.Cores)
	if err != nil {
		return nil, err
	}
	g.Stats.Lines = lines
	g.checkOrderOfBases()
	content := g.Finish(endRecord)
	content.Image = content.Image.WithStart(g.start)
	return content, nil
}

// checkOrderOfBases warns of a data record beside a base record that would
// carry on from its neighbours if the two lines were swapped: so a moved line
// looks.
func (g *reader) checkOrderOfBases() {
	const mostTold = 20
	low := func(a uint64) uint64 { return a % (segment * g.unit) }
	lines := func(p *memory.Chunk) uint64 { return (uint64(p.More) + uint64(p.Each)) / uint64(p.Each) }
	told := 0
	pieces := g.Batch.Chunks
	for i := 1; i+1 < len(pieces) && told < mostTold; i++ {
		before, odd, after := &pieces[i-1], &pieces[i], &pieces[i+1]
		if before.Each == 0 || odd.Each == 0 || after.Each == 0 || lines(odd) != 1 || odd.First == before.Last()+1 ||
			after.First == odd.Last()+1 {
			continue
		}
		ends, at, next := uint64(before.Position)+lines(before), uint64(odd.Position), uint64(after.Position)
		base := uint64(0)
		switch {
		case at == ends && next == at+2 && low(odd.Last()+1) == low(after.First):
			base = at + 1
		case at == ends+1 && next == at+1 && low(odd.First) == low(before.Last()+1):
			base = ends
		default:
			continue
		}
		told++
		what := fmt.Sprintf("the record at %s would continue its neighbours on the other side of the base record on line %d",
			memory.FormatAddress(odd.First), base)
		g.Warn(record.Line{Number: int(at)}, -1, what, "", "two lines may be swapped; get the file again").Doubt = source.MovedLine
	}
}

type reader struct {
	record.Reader
	unit      uint64
	base      uint64 // in units
	based     bool   // a base record was met
	segmented bool   // the base is a segment's
	start     memory.Start
	startLine int
}

// blockState is what a block says of bases.
type blockState struct {
	relative  int    // pieces before the first base record, whose addresses count from the base before the block
	based     bool   // a base record was met
	base      uint64 // after the block, where based
	segmented bool   // the kind of that base
}

// Plain decodes data and base records that need no second look: no white
// space, no wrap. Addresses before the first base record are relative to the
// base that holds before the block.
func (g *reader) Plain(block []byte, p *record.Block) {
	if need := len(block)/2 + 8; cap(p.Data) < need {
		p.Data = make([]byte, 0, need)
	}
	data := p.Data[:cap(p.Data)]
	used, at, lines := 0, 0, 0
	pieces := p.NewChunks()
	state := &blockState{}
	for {
		rest := block[at:]
		// Eleven characters, a line end, and one beyond to look at.
		if len(rest) < digitsWithoutData+3 || rest[0] != ':' {
			break
		}
		length, high, low, typ := record.At(rest[1:]), record.At(rest[3:]), record.At(rest[5:]), record.At(rest[7:])
		n, address, kind := int(length&0xFF), uint64(high&0xFF)<<8|uint64(low&0xFF), byte(typ)
		end := addressOfFirstDigit + digitsWithoutData + 2*n
		if length&high&low&typ == 0 || len(rest) < end+2 {
			break
		}
		sum, ok := record.Data(data[used:], rest[9:], n)
		check := record.At(rest[end-2:])
		if !ok || check == 0 || sum+byte(length+high+low+typ+check) != 0 {
			break
		}
		if end, ok = record.NextLine(rest, end); !ok || n == 0 {
			break
		}
		switch kind {
		case typeData:
			if address*g.unit+uint64(n) > segment*g.unit {
				kind = 0xFF
				break
			}
			pieces.Add((state.base+address)*g.unit, n, lines, used)
			used += n
			p.Widths[n]++
		case typeLinearAddress, typeSegmentAddress:
			if n != 2 || address != 0 {
				kind = 0xFF
				break
			}
			pieces.End()
			if !state.based {
				state.based, state.relative = true, len(p.Chunks)
			}
			value := uint64(data[used])<<8 | uint64(data[used+1])
			if state.segmented = kind == typeSegmentAddress; state.segmented {
				state.base = value << 4
			} else {
				state.base = value << 16
			}
		default:
			kind = 0xFF
		}
		if kind == 0xFF {
			break
		}
		p.Types[kind]++
		at += end
		lines++
	}
	pieces.End()
	if !state.based {
		state.relative = len(p.Chunks)
	}
	p.Data, p.Used, p.Lines, p.State = data[:used], at, lines, state
}

// Join resolves the addresses that are relative to the base so far.
func (g *reader) Join(p *record.Block, lines int) bool {
	if g.Ended {
		return false
	}
	state := p.State.(*blockState)
	for i := range p.Chunks[:state.relative] {
		p.Chunks[i].First += g.base * g.unit
	}
	if state.based {
		g.base, g.based, g.segmented = state.base, true, state.segmented
	}
	g.Take(p, lines)
	return true
}

// Line reads one line by all the rules.
func (g *reader) Line(line record.Line) {
	text, at := g.Begin(line)
	if len(text) == 0 {
		return
	}
	if text[0] != ':' {
		g.noMark(line, text, at)
		return
	}
	b, ok := g.record(line, text, at)
	if !ok {
		return
	}
	n, address, kind, data := int(b[0]), uint64(b[1])<<8|uint64(b[2]), b[3], b[4:len(b)-1]
	at++ // of the first digit
	if int(kind) < len(g.Stats.Types) {
		g.Stats.Types[kind]++
	}
	if want, ok := map[byte]int{typeEnd: 0, typeSegmentAddress: 2, typeLinearAddress: 2, typeStartSegment: 4,
		typeStartLinear: 4}[kind]; ok {
		if n != want {
			g.Report(record.Damage, line, at, fmt.Sprintf("%s record with %d data bytes", typeNames[kind], n), fmt.Sprintf("%d", want), "")
			return
		}
		if address != 0 {
			g.Report(record.Deviation, line, at+2, fmt.Sprintf("%s record with address 0x%04X", typeNames[kind], address), "0x0000", "")
		}
	}
	switch kind {
	case typeData:
		g.data(line, at, address, data)
	case typeEnd:
		// A record after the end, in a file read leniently, begins anew.
		g.Ended = true
		g.base, g.based, g.segmented = 0, false, false
	case typeSegmentAddress:
		g.base, g.based, g.segmented = (uint64(data[0])<<8|uint64(data[1]))<<4, true, true
	case typeLinearAddress:
		g.base, g.based, g.segmented = (uint64(data[0])<<8|uint64(data[1]))<<16, true, false
	case typeStartSegment, typeStartLinear:
		start := memory.Start{Kind: memory.LinearStart}
		if kind == typeStartSegment {
			start.Kind = memory.SegmentedStart
		}
		for _, d := range data {
			start.Value = start.Value<<8 | uint64(d)
		}
		if g.unit > 1 {
			// Words are counted, which CS:IP cannot say once they are bytes.
			start = memory.Start{Kind: memory.LinearStart, Value: start.Address() * g.unit}
		}
		if g.start.Kind != memory.NoStart && g.start != start {
			g.Report(record.Deviation, line, at, "another start address", fmt.Sprintf("the same as on line %d", g.startLine), "")
		}
		g.start, g.startLine = start, line.Number
	default:
		g.Report(record.Damage, line, at+6, fmt.Sprintf("record type 0x%02X is not known", kind), "00 to 05", "")
	}
}

// noMark reports a line that does not begin with the record mark. One that is
// a sound record but for its mark is damaged; all else is a comment.
func (g *reader) noMark(line record.Line, text []byte, at int) {
	if i := bytes.IndexByte(text, ':'); i > 0 && sound(text[i:]) {
		g.Report(record.Damage, line, at, fmt.Sprintf("%q comes before the record mark", text[:i]), "':' first", "")
		return
	}
	if g.Continues(line, text, longestRecord, sound) {
		return
	}
	if almostRecord(text) {
		g.Report(record.Damage, line, at, "the record mark is damaged or missing", "':'", "")
		return
	}
	p := g.Deviates(line, at, "the line does not begin with a record mark", "':'", "no comments in Intel HEX", "skips them")
	p.Doubt = source.SkippedLine
}

// longestRecord is how many characters the longest record has.
const longestRecord = 1 + digitsWithoutData + 2*255

// almostRecord reports whether a line is a sound record but for its mark, which
// is damaged or missing.
func almostRecord(line []byte) bool {
	const longest = 4 // bytes of a character in the mark's place
	for skip := 0; skip <= longest && skip < len(line); skip++ {
		if sound(append([]byte{':'}, line[skip:]...)) {
			return true
		}
	}
	return false
}

// sound reports whether text is a whole record with the right checksum.
func sound(text []byte) bool {
	digits := text[1:]
	if len(digits) < digitsWithoutData || len(digits)%2 != 0 {
		return false
	}
	sum := byte(0)
	for i := 0; i < len(digits); i += 2 {
		p := record.Pair(digits[i], digits[i+1])
		if p > 0xFF || i == 0 && len(digits) != digitsWithoutData+2*int(p) {
			return false
		}
		sum += byte(p)
	}
	return sum == 0
}

// record decodes a record and proves its length and checksum.
func (g *reader) record(line record.Line, text []byte, at int) (b []byte, ok bool) {
	digits := text[1:]
	b, ok = g.Bytes(line, digits, at+1)
	if !ok {
		return nil, false
	}
	cutShort := ""
	if !line.Terminated {
		cutShort = "the file is truncated here; get it again"
	}
	end := at + len(text)
	if len(digits) < 2 {
		g.Short(line, text, end, fmt.Sprintf("the record breaks off after %d digits", len(digits)),
			fmt.Sprintf("%d or more", digitsWithoutData), cutShort)
		return nil, false
	}
	n := int(b[0])
	switch have, want := len(digits), digitsWithoutData+2*n; {
	case have < want:
		g.Short(line, text, end, fmt.Sprintf("the record is shorter than its length says: %d digits", have),
			fmt.Sprintf("%d digits for %d data bytes", want, n), cutShort)
		return nil, false
	case have > want:
		g.Report(record.Damage, line, at+1+want, fmt.Sprintf("the record is longer than its length says: %d digits", have),
			fmt.Sprintf("%d digits for %d data bytes", want, n), "")
		return nil, false
	}
	sum := byte(0)
	for _, c := range b[:len(b)-1] {
		sum += c
	}
	return b, g.Checksum(line, end-2, b[len(b)-1], -sum)
}

// data takes a data record. Inside a segment, and at 4 GiB with a linear
// base, addresses wrap; before any base record the standard does not say.
func (g *reader) data(line record.Line, at int, address uint64, data []byte) {
	if g.Stats.Widths[len(data)]++; len(data) == 0 {
		return
	}
	first, wrapTo, room := g.base+address, uint64(0), (lastLinear+1-g.base-address)*g.unit
	if g.segmented || !g.based {
		if inSegment := (segment - address) * g.unit; inSegment < uint64(len(data)) && !g.based {
			g.Deviates(line, at+2,
				fmt.Sprintf("the record runs past 0xFFFF before any base record: %d bytes from 0x%04X", len(data), address),
				"a type 04 record first", "", "carries on at 0x0001_0000")
		} else if g.segmented {
			room, wrapTo = inSegment, g.base
		}
	}
	if room < uint64(len(data)) {
		if !g.segmented {
			g.Warn(line, at+2, fmt.Sprintf("the record runs past 0xFFFF_FFFF and wraps to 0: %d bytes from 0x%X", len(data), first), "",
				"it may be linked for the wrong address")
		}
		g.Batch.Add(first*g.unit, data[:room], line.Number)
		first, data = wrapTo, data[room:]
	}
	g.Batch.Add(first*g.unit, data, line.Number)
}
