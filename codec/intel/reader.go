package intel

import (
	"bytes"
	"fmt"
	"io"

	"mexalt/codec/record"
	"mexalt/memory"
	"mexalt/source"
)

// Read reads a file to its end. What is wrong with it is added to problems;
// where that holds an error, the file yields no image. The error returned is
// one of r's.
func Read(r io.Reader, in *source.Input, o record.ReadOptions, problems *source.Problems) (*record.Result, error) {
	g := &reader{Reader: record.Reader{ReadOptions: o, Input: in, Problems: problems}}
	g.unit = g.Unit()
	lines, err := record.Scan(r, g, o.Cores)
	if err != nil {
		return nil, err
	}
	g.Stats.Lines = lines
	result := g.Finish(endRecord)
	result.Image.Start = g.start
	return result, nil
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

// Plain decodes data and base records that need no second look: no white
// space, no wrap. Addresses before the first base record are relative to the
// base that holds before the block.
func (g *reader) Plain(block []byte, p *record.Plain) {
	if need := len(block)/2 + 8; cap(p.Data) < need {
		p.Data = make([]byte, 0, need)
	}
	data := p.Data[:cap(p.Data)]
	used, at, lines := 0, 0, 0
	var (
		piece    memory.Piece
		next     uint64 // the address that carries the piece on
		nextLine = -1   // the line that does
		full     bool   // the piece's last line is as long as its first
		base     uint64
	)
	flush := func() {
		if piece.Each > 0 {
			p.Pieces = append(p.Pieces, piece)
			piece.Each = 0
		}
	}
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
		switch rest[end] {
		case '\n':
			end++
		case '\r':
			if end++; rest[end] == '\n' {
				end++
			}
		default:
			n = -1
		}
		if n <= 0 {
			break
		}
		switch kind {
		case typeData:
			if address*g.unit+uint64(n) > segment*g.unit {
				kind = 0xFF
				break
			}
			a := (base + address) * g.unit
			if a == next && lines == nextLine && full && n <= int(piece.Each) {
				piece.More += uint32(n)
				full = n == int(piece.Each)
			} else {
				flush()
				piece = memory.Piece{First: a, Position: uint32(lines), More: uint32(n - 1), Ref: uint32(used), Each: uint8(n)}
				full = true
			}
			next, nextLine = a+uint64(n), lines+1
			used += n
			p.Widths[n]++
		case typeLinearAddress, typeSegmentAddress:
			if n != 2 || address != 0 {
				kind = 0xFF
				break
			}
			flush()
			if !p.Based {
				p.Based, p.Relative = true, len(p.Pieces)
			}
			value := uint64(data[used])<<8 | uint64(data[used+1])
			if p.Segmented = kind == typeSegmentAddress; p.Segmented {
				base = value << 4
			} else {
				base = value << 16
			}
			nextLine = -1
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
	flush()
	if !p.Based {
		p.Relative = len(p.Pieces)
	}
	p.Data, p.Used, p.Lines, p.Base = data[:used], at, lines, base
}

// Join resolves the addresses that are relative to the base so far.
func (g *reader) Join(p *record.Plain, lines int) bool {
	if g.Ended {
		return false
	}
	for i := range p.Pieces[:p.Relative] {
		p.Pieces[i].First += g.base * g.unit
	}
	if p.Based {
		g.base, g.based, g.segmented = p.Base, true, p.Segmented
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
	if want, ok := map[byte]int{typeEnd: 0, typeSegmentAddress: 2, typeLinearAddress: 2, typeStartSegment: 4, typeStartLinear: 4}[kind]; ok {
		if n != want {
			g.Report(record.Damage, line, at, fmt.Sprintf("%s record with %d data bytes", TypeNames[kind], n), fmt.Sprintf("%d expected", want), "")
			return
		}
		if address != 0 {
			g.Report(record.Deviation, line, at+2, fmt.Sprintf("%s record with address 0x%04X", TypeNames[kind], address), "0x0000 expected", "")
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
		if g.start.Kind != memory.NoStart && g.start != start {
			g.Report(record.Deviation, line, at, "another start address", fmt.Sprintf("line %d gives a different one", g.startLine), "")
		}
		g.start, g.startLine = start, line.Number
	default:
		g.Report(record.Damage, line, at+6, fmt.Sprintf("record type 0x%02X is not known", kind), "00 to 05 expected", "")
	}
}

// noMark reports a line that does not begin with the record mark. One that is
// a sound record but for its mark is damaged; all else is a comment.
func (g *reader) noMark(line record.Line, text []byte, at int) {
	if i := bytes.IndexByte(text, ':'); i > 0 && sound(text[i:]) {
		g.Report(record.Damage, line, at, fmt.Sprintf("%q stands before the record mark", text[:i]), "':' expected first", "")
		return
	}
	if AlmostRecord(text) {
		g.Report(record.Damage, line, at, "the record mark is damaged or missing", "':' expected", "")
		return
	}
	g.Report(record.Deviation, line, at, "the line does not begin with a record mark", "':' expected", "no comments in Intel HEX; -lenient skips them")
}

// AlmostRecord reports whether a line is a sound record but for its mark, which
// is damaged or missing.
func AlmostRecord(line []byte) bool {
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
		cutShort = "the file breaks off here; take it again"
	}
	end := at + len(text)
	if len(digits) < 2 {
		g.Report(record.Damage, line, end, fmt.Sprintf("the record breaks off after %d digits", len(digits)), fmt.Sprintf("%d or more expected", digitsWithoutData), cutShort)
		return nil, false
	}
	n := int(b[0])
	switch have, want := len(digits), digitsWithoutData+2*n; {
	case have < want:
		g.Report(record.Damage, line, end, fmt.Sprintf("the record is shorter than its length says: %d digits", have),
			fmt.Sprintf("%d expected for %d data bytes", want, n), cutShort)
		return nil, false
	case have > want:
		g.Report(record.Damage, line, at+1+want, fmt.Sprintf("the record is longer than its length says: %d digits", have),
			fmt.Sprintf("%d expected for %d data bytes", want, n), "")
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
			g.Report(record.Deviation, line, at+2, fmt.Sprintf("the record runs past 0xFFFF before any base record: %d bytes from 0x%04X", len(data), address),
				"a type 04 record expected first", "-lenient carries on at 0x0001_0000")
		} else if g.segmented {
			room, wrapTo = inSegment, g.base
		}
	}
	if room < uint64(len(data)) {
		g.Batch.Add(first*g.unit, data[:room], line.Number)
		first, data = wrapTo, data[room:]
	}
	g.Batch.Add(first*g.unit, data, line.Number)
}
