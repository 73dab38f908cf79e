package motorola

import (
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
	g := &reader{Reader: record.Reader{ReadOptions: o, Input: in, Problems: problems, Word: "srec"}}
	g.Stats.TypeNames = typeNames[:]
	g.unit = g.BytesPerAddress()
	lines, err := record.Scan(r, g, o.Cores)
	if err != nil {
		return nil, err
	}
	g.Stats.Lines = lines
	g.checkFirstKind()
	g.checkSingleKind()
	g.checkHeader()
	content := g.Finish("S7, S8 or S9")
	g.checkFirstRecord(content.Image)
	content.Image = content.Image.WithStart(g.start)
	if g.header != nil {
		content.Image = content.Image.WithHeader(g.header)
	}
	return content, nil
}

type reader struct {
	record.Reader
	unit   uint64
	header []byte
	start  memory.Start

	headerRecord fields         // the header, to hold against the first data record
	first        fields         // the first data record
	previous     fields         // the last data record, where Line read it
	kind         int            // type digit of the last data record, 0 before the first
	next         uint64         // the address after the last data record
	records      [4]int         // data records S1, S2, S3
	kindLine     [4]record.Line // the first data record of each type that Line read
	counted      bool           // a count record was met
	suspected    bool           // a damaged type digit was reported
	damaged      int            // records that could not be read, which a count record counts too
	widths       [4][256]int
}

// fields is a record taken apart.
type fields struct {
	line record.Line
	kind int
	body []byte // address and data
}

// addressesAs returns the address that the record would have if its type digit were
// kind, and the address after it. ok is false where it is too short for that.
func (f *fields) addressesAs(kind int) (first, next uint64, ok bool) {
	n := addressBytes[kind]
	if f.body == nil || len(f.body) <= n {
		return 0, 0, false
	}
	for _, b := range f.body[:n] {
		first = first<<8 | uint64(b)
	}
	return first, first + uint64(len(f.body)-n), true
}

// Plain decodes data records of one type.
func (g *reader) Plain(block []byte, p *record.Block) {
	if len(block) < 2 || block[0] != 'S' || block[1] < '1' || block[1] > '3' {
		return
	}
	if need := len(block)/2 + 8; cap(p.Data) < need {
		p.Data = make([]byte, 0, need)
	}
	data := p.Data[:cap(p.Data)]
	digit := block[1]
	wide, last := addressBytes[digit-'0'], lastAddress(int(digit-'0'))
	used, at, lines := 0, 0, 0
	pieces := p.NewChunks()
	for {
		rest := block[at:]
		// The shortest record that holds data, a line end, and one beyond.
		if len(rest) < 4+2*wide+4+2 || rest[0] != 'S' || rest[1] != digit {
			break
		}
		count, high, low := record.At(rest[2:]), record.At(rest[4:]), record.At(rest[6:])
		all, sum := count&high&low, count+high+low
		address := uint64(high&0xFF)<<8 | uint64(low&0xFF)
		if wide > 2 {
			next := record.At(rest[8:])
			all, sum, address = all&next, sum+next, address<<8|uint64(next&0xFF)
			if wide > 3 {
				next = record.At(rest[10:])
				all, sum, address = all&next, sum+next, address<<8|uint64(next&0xFF)
			}
		}
		n := int(count&0xFF) - wide - 1
		end := 4 + 2*int(count&0xFF)
		if all == 0 || n <= 0 || len(rest) < end+2 {
			break
		}
		more, ok := record.Data(data[used:], rest[4+2*wide:], n)
		check := record.At(rest[end-2:])
		if !ok || check == 0 || byte(sum+check)+more != 0xFF || address*g.unit+uint64(n)-1 > last*g.unit+(g.unit-1) {
			break
		}
		if end, ok = record.NextLine(rest, end); !ok {
			break
		}
		pieces.Add(address*g.unit, n, lines, used)
		used += n
		p.Widths[n]++
		at += end
		lines++
	}
	pieces.End()
	kind := int(digit - '0')
	p.Types[kind] = lines
	p.Data, p.Used, p.Lines, p.State = data[:used], at, lines, kind
}

// Join takes records of the type read last. The first data record, and one of
// another type than the record before it, go through Line.
func (g *reader) Join(p *record.Block, lines int) bool {
	kind, ok := p.State.(int)
	if !ok || g.Ended || kind != g.kind {
		return false
	}
	g.next = (p.Chunks[len(p.Chunks)-1].Last() + g.unit) / g.unit // as Line reckons it
	g.previous = fields{}
	g.records[kind] += p.Lines
	for w, n := range p.Widths {
		if n > 0 {
			g.widths[kind][w] += n
		}
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
	before := g.Problems.Errors()
	kind, body, ok := g.record(line, text, at)
	if !ok {
		if g.Problems.Errors() > before { // a comment, which is passed over, is no record
			g.damaged++
		}
		return
	}
	g.Stats.Types[kind]++
	f := fields{line, kind, body}
	value := uint64(0)
	for _, b := range body[:addressBytes[kind]] {
		value = value<<8 | uint64(b)
	}
	one := oneRecord{fields: f, at: at, address: at + 4, value: value, data: body[addressBytes[kind]:]}
	switch kind {
	case 0:
		g.headed(one)
	case 1, 2, 3:
		g.data(f, value, one.data, one.address)
	case 4:
		g.Report(record.Deviation, line, at+1, "S4 is reserved", "S0 to S3, S5 to S9", "")
	case 5, 6:
		g.count(one)
	default:
		g.end(one)
	}
}

// oneRecord is a record that is sound in itself.
type oneRecord struct {
	fields
	at, address int // columns of the record, and of its address
	value       uint64
	data        []byte
}

// headed takes a header record.
func (g *reader) headed(r oneRecord) {
	const advice = "it may be a data record with a damaged type digit"
	if r.value != 0 {
		g.Report(record.Deviation, r.line, r.address, fmt.Sprintf("header record with address 0x%04X", r.value), "0x0000", advice)
	}
	if g.header != nil {
		g.Report(record.Deviation, r.line, r.at, "a second header record", "one", "the file may be two files joined")
	} else if g.kind != 0 {
		g.Report(record.Deviation, r.line, r.at, "a header record after data records", "one at the start", advice)
	}
	g.header = append([]byte{}, r.data...)
	g.headerRecord = keep(r.fields)
}

// count takes a count record, S5 or S6.
func (g *reader) count(r oneRecord) {
	g.counted = true
	if len(r.data) > 0 {
		expected := fmt.Sprintf("%d bytes", addressBytes[r.kind]+1)
		g.Report(record.Damage, r.line, r.at+2, "count record of the wrong length", expected, "")
		return
	}
	n := g.records[1] + g.records[2] + g.records[3]
	if r.value < uint64(n) || r.value > uint64(n+g.damaged) {
		what := fmt.Sprintf("the count record says %s data records", memory.FormatCount(r.value))
		expected := fmt.Sprintf("%s, as many as come before it", memory.FormatCount(uint64(n)))
		g.Report(record.Damage, r.line, r.address, what, expected,
			"lines are lost or added; get the file again").Doubt = source.CountDiffers
	}
}

// end takes an end record, which may give a start address.
func (g *reader) end(r oneRecord) {
	if len(r.data) > 0 {
		expected := fmt.Sprintf("%d bytes", addressBytes[r.kind]+1)
		g.Report(record.Damage, r.line, r.at+2, "end record of the wrong length", expected, "")
	}
	if widest := g.widest(); widest != 0 && r.kind != endKind(widest) {
		g.suspected = true
		what := fmt.Sprintf("end record S%d does not match data records S%d", r.kind, widest)
		g.Report(record.Deviation, r.line, r.at+1, what, fmt.Sprintf("S%d", endKind(widest)), "one of the type digits may be damaged")
	}
	if r.value != 0 {
		start := memory.Start{Kind: memory.LinearStart, Value: r.value * g.unit}
		if g.start.Kind != memory.NoStart && g.start != start {
			expected := fmt.Sprintf("%s was given before", memory.FormatAddress(g.start.Value))
			g.Report(record.Deviation, r.line, r.address, "another start address", expected, "")
		}
		g.start = start
	}
	g.Ended = true
}

// widest returns the widest type of data record met, or 0.
func (g *reader) widest() int {
	for kind := 3; kind > 0; kind-- {
		if g.records[kind] > 0 {
			return kind
		}
	}
	return 0
}

// record decodes a record and proves its count and checksum. body is address
// and data.
func (g *reader) record(line record.Line, text []byte, at int) (kind int, body []byte, ok bool) {
	if text[0] != 'S' {
		what, expected := "the line does not begin with a record mark", "'S'"
		switch {
		case text[0] == 's' && sound(text):
			g.Report(record.Damage, line, at, "the record mark is a small letter", expected, "")
		case g.Continues(line, text, longestRecord, sound):
		case almostRecord(text):
			g.Report(record.Damage, line, at, "the record mark is damaged or missing", expected, "")
		default:
			g.Deviates(line, at, what, expected, "no comments in S-records", "skips them").Doubt = source.SkippedLine
		}
		return 0, nil, false
	}
	if len(text) < 2 || text[1] < '0' || text[1] > '9' {
		what := "the record type is missing"
		if len(text) > 1 {
			what = fmt.Sprintf("%q is not a record type", []rune(string(text[1:]))[0])
		}
		g.Report(record.Damage, line, at+1, what, "a digit 0 to 9 after 'S'", "")
		return 0, nil, false
	}
	kind = int(text[1] - '0')
	cutShort := ""
	if !line.Terminated {
		cutShort = "the file is truncated here; get it again"
	}
	end := at + len(text)
	if len(text) < 4 {
		g.Short(line, text, end, "the record breaks off before its count", "", cutShort)
		return 0, nil, false
	}
	// Only what the count covers is the record; text may stand behind it.
	counted := text
	if c := record.Pair(text[2], text[3]); c <= 0xFF && len(text) > 4+2*int(c) {
		if want := 4 + 2*int(c); record.IsDigit(text[want]) {
			g.Report(record.Damage, line, at+want, fmt.Sprintf("the record is longer than its count says: %d characters", len(text)),
				fmt.Sprintf("%d digits for a count of %d", want, c), "")
			return 0, nil, false
		} else {
			counted = text[:want]
			g.Report(record.Deviation, line, at+want, "text after the record", "nothing after the checksum", "")
		}
	}
	b, ok := g.Bytes(line, counted[2:], at+2)
	if !ok {
		return 0, nil, false
	}
	count := int(b[0])
	if want := 4 + 2*count; len(counted) < want {
		g.Short(line, counted, end, fmt.Sprintf("the record is shorter than its count says: %d characters", len(counted)),
			fmt.Sprintf("%d digits for a count of %d", want, count), cutShort)
		return 0, nil, false
	}
	if least := addressBytes[kind] + 1; count < least {
		g.Report(record.Damage, line, at+2, fmt.Sprintf("a count of %d is too small for an S%d record", count, kind),
			fmt.Sprintf("%d or more", least), "the type digit may be damaged")
		return 0, nil, false
	}
	sum := byte(0)
	for _, c := range b[:len(b)-1] {
		sum += c
	}
	return kind, b[1 : len(b)-1], g.Checksum(line, at+len(counted)-2, b[len(b)-1], ^sum)
}

// longestRecord is how many characters the longest record has.
const longestRecord = 4 + 2*mostCount

// sound reports whether text, whatever its first character, is a whole record
// with the right checksum.
func sound(text []byte) bool {
	if len(text) < 8 || text[1] < '0' || text[1] > '9' {
		return false
	}
	count := record.Pair(text[2], text[3])
	if count > 0xFF || len(text) != 4+2*int(count) {
		return false
	}
	sum := byte(0)
	for i := 2; i < len(text); i += 2 {
		p := record.Pair(text[i], text[i+1])
		if p > 0xFF {
			return false
		}
		sum += byte(p)
	}
	return sum == 0xFF
}

// almostRecord reports whether a line is a sound record but for its mark, which
// is damaged or missing.
func almostRecord(line []byte) bool {
	const longest = 4 // bytes of a character in the mark's place
	for skip := 0; skip <= longest && skip < len(line); skip++ {
		if sound(append([]byte{'S'}, line[skip:]...)) {
			return true
		}
	}
	return false
}

// keep returns f with bytes of its own.
func keep(f fields) fields {
	f.line.Text = append([]byte{}, f.line.Text...)
	f.body = append([]byte{}, f.body...)
	return f
}

// data takes a data record. at is where its address field stands.
func (g *reader) data(f fields, address uint64, data []byte, at int) {
	next := address + (uint64(len(data))+g.unit-1)/g.unit
	if next > lastAddress(f.kind)+1 {
		g.Report(record.Deviation, f.line, at,
			fmt.Sprintf("the record runs past 0x%X, the last address that S%d records reach", lastAddress(f.kind), f.kind), "", "")
	}
	switch {
	case g.kind == 0:
		if _, end, ok := g.headerRecord.addressesAs(f.kind); ok && end == address {
			g.Report(record.Deviation, g.headerRecord.line, 1,
				"the header record looks like a data record: the first data record begins where it would end", fmt.Sprintf("S%d", f.kind),
				"the type digit may be damaged")
		}
		g.first = keep(f)
	case f.kind != g.kind:
		g.kindChanges(f, address, next)
	}
	if len(data) > 0 {
		g.Batch.Add(address*g.unit, data, f.line.Number)
	}
	if g.records[f.kind] == 0 {
		g.kindLine[f.kind] = keep(f).line
	}
	g.Stats.Widths[len(data)]++
	g.widths[f.kind][len(data)]++
	g.records[f.kind]++
	g.kind, g.next, g.previous = f.kind, next, keep(f)
}

// kindChanges looks at a data record of another type than the one before it.
// Files may mix types. But where one of the two would fit beside the other,
// or has just the length of its neighbours, if only it were of the other's
// type, its type digit is damaged.
func (g *reader) kindChanges(f fields, address, next uint64) {
	const what = "S%d among S%d records looks like a damaged type digit"
	report := func(odd *fields, meant int, why string) {
		g.suspected = true
		g.Deviates(odd.line, 1, fmt.Sprintf(what, odd.kind, meant), why, "", "takes it as it is")
	}
	was := g.kind
	if first, _, ok := f.addressesAs(was); ok && first == g.next && address != g.next {
		report(&f, was, fmt.Sprintf("S%d, which continues at %s, where the record before it ends", was, memory.FormatAddress(first)))
		return
	}
	if _, end, ok := g.previous.addressesAs(f.kind); ok && end == address && g.next != address {
		report(&g.previous, f.kind,
			fmt.Sprintf("S%d, which ends at %s, where the next record begins", f.kind, memory.FormatAddress(address)))
		return
	}
	if n := len(f.body) - addressBytes[was]; n > 0 && g.widths[was][n] >= 2 && address != g.next {
		report(&f, was, fmt.Sprintf("S%d, as its length matches %d S%d records before it", was, g.widths[was][n], was))
	}
}

// checkFirstKind looks at the first data record where it is the only one of
// its type, as [reader.kindChanges] does.
func (g *reader) checkFirstKind() {
	if g.first.body == nil || g.records[g.first.kind] != 1 {
		return
	}
	for kind := 1; kind <= 3; kind++ {
		if n := len(g.first.body) - addressBytes[kind]; kind != g.first.kind && n > 0 && g.widths[kind][n] >= 2 && !g.suspected {
			g.suspected = true
			g.Deviates(g.first.line, 1, fmt.Sprintf("S%d before S%d records looks like a damaged type digit", g.first.kind, kind),
				fmt.Sprintf("S%d, as its length matches %d S%d records", kind, g.widths[kind][n], kind), "", "takes it as it is")
			return
		}
	}
}

// checkSingleKind warns of a file whose data records are all of one type but for
// one: a damaged type digit would look just so, though nothing shows that it
// is one.
func (g *reader) checkSingleKind() {
	single, others, kinds := 0, 0, 0
	for kind := 1; kind <= 3; kind++ {
		if g.records[kind] > 0 {
			if kinds++; g.records[kind] == 1 && single == 0 {
				single = kind
			} else {
				others = kind
			}
		}
	}
	if kinds != 2 || single == 0 || g.suspected {
		return
	}
	g.Warn(g.kindLine[single], 1, fmt.Sprintf("the only S%d record, all other data records are S%d", single, others), "",
		"the type digit may be damaged; the record was taken as it is")
}

// checkHeader warns of a header that is hardly text, in a file whose data
// records are not counted: it may be a data record.
func (g *reader) checkHeader() {
	odd := 0
	for _, b := range g.header {
		if b < 0x20 || b > 0x7E {
			odd++
		}
	}
	if g.counted || odd*4 <= len(g.header) || g.records == [4]int{} {
		return
	}
	g.Warn(g.headerRecord.line, 1, "the header record is hardly text", "",
		"it may be a data record with a damaged type digit; it was taken as the header")
}

// checkFirstRecord warns of a first data record that may be a header whose
// type digit is damaged: text at address 0, in a file without a header, and
// nothing behind it.
func (g *reader) checkFirstRecord(m *memory.Image) {
	const least = 3 // bytes that make a text
	body := g.first.body
	if g.header != nil || len(body) < 2+least || body[0] != 0 || body[1] != 0 {
		return
	}
	for _, b := range body[2:] {
		if b < 0x20 || b > 0x7E {
			return
		}
	}
	address, next, _ := g.first.addressesAs(g.first.kind)
	if m.Count(memory.Span{First: next * g.unit, Last: next * g.unit}) > 0 || m.Bytes() == next-address {
		return
	}
	g.Warn(g.first.line, 1, fmt.Sprintf("the first data record contains only text, %q", body[2:]),
		"a header record S0 for a text like this", "the type digit may be damaged; the record was taken as data")
}
