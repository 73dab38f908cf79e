package target_test

import (
	"bufio"
	"bytes"
	"context"
	"fmt"
	"io"
	"math/rand/v2"
	"net"
	"strings"
	"sync"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"mexalt/device"
	"mexalt/memory"
	"mexalt/rehearsal"
	"mexalt/rehearsal/chip"
	"mexalt/source"
	"mexalt/target"
)

func partOf(t testing.TB, name string, faults ...string) *rehearsal.Manual {
	t.Helper()
	m, ok := maps.Load(name)
	if !ok {
		var err error
		m, err = device.Open(&source.Files{}, name, nil)
		require.NoError(t, err)
		maps.Store(name, m)
	}
	return partOfMap(t, m.(*device.Map), faults...)
}

// maps are those that were loaded.
var maps sync.Map

func partOfMap(t testing.TB, m *device.Map, faults ...string) *rehearsal.Manual {
	t.Helper()
	c := chip.New(m, 1)
	var all chip.Faults
	for _, f := range faults {
		require.NoError(t, all.Add(f, m))
	}
	c.SetFaults(all)
	return rehearsal.NewManual(c)
}

// debugger talks to a server as a test says.
type debugger struct {
	t       testing.TB
	conn    net.Conn
	in      *bufio.Reader
	session chan *target.Session
}

func attach(t testing.TB, s *target.Server) *debugger {
	ours, theirs := net.Pipe()
	d := &debugger{t, ours, bufio.NewReader(ours), make(chan *target.Session, 1)}
	go func() { d.session <- s.Serve(context.Background(), theirs) }()
	t.Cleanup(func() { ours.Close() })
	return d
}

// ask sends a request and returns the answer, of which it checks the sum.
func (d *debugger) ask(request string) string {
	d.t.Helper()
	d.conn.SetDeadline(time.Now().Add(20 * time.Second))
	go io.WriteString(d.conn, packet(request))
	return d.answer()
}

func (d *debugger) answer() string {
	d.t.Helper()
	_, err := d.in.ReadString('$')
	require.NoError(d.t, err)
	text, err := d.in.ReadString('#')
	require.NoError(d.t, err)
	sum := make([]byte, 2)
	_, err = io.ReadFull(d.in, sum)
	require.NoError(d.t, err)
	text = strings.TrimSuffix(text, "#")
	require.Equal(d.t, packet(text), "$"+text+"#"+string(sum))
	return text
}

func binary(data string) string {
	var b strings.Builder
	for i := range len(data) {
		if strings.IndexByte("$#}*", data[i]) >= 0 {
			b.WriteByte('}')
			b.WriteByte(data[i] ^ 0x20)
		} else {
			b.WriteByte(data[i])
		}
	}
	return b.String()
}

// TestAChipIsServed programs a chip as debuggers do, and asks it what they ask.
func TestAChipIsServed(t *testing.T) {
	part := partOf(t, "brindle-m32-512")
	var notes []string
	d := attach(t, &target.Server{Part: part, Machine: "ARM", Note: func(text string) { notes = append(notes, text) }})
	features := d.ask("qSupported:multiprocess+;swbreak+")
	assert.Equal(t, "PacketSize=4000;QStartNoAckMode+;qXfer:memory-map:read+;qXfer:features:read+;binary-upload+", features)
	// What sections that share a page, and a granule, need: nothing is programmed before the end.
	payload := "\x00$#}*\xFF\x04\x03" + strings.Repeat("*", 9)
	for _, step := range [][2]string{
		{"vMustReplyEmpty", ""}, {"?", "S05"}, {"Hg0", "OK"}, {"qAttached", "1"}, {"g", strings.Repeat("0", 17*8)}, {"p10", "00000000"},
		{"P10=00000001", "OK"}, {"qC", ""}, {"vCont?", ""}, {"qXfer:features:read:other.xml:0,100", "E00"}, {"X6000000,0:", "OK"},
		{"vFlashErase:06000000,00004000", "OK"},
		{"vFlashWrite:6000000:" + binary(payload), "OK"},
		{"vFlashWrite:6000013:xV4\x12", "OK"},
		{"vFlashWrite:6002000:a*~b", "OK"}, // binary: no run length
		{"m6000000,2", "ffff"},
		{"vFlashDone", "OK"},
		{"m6000000,4", "0024237d"},
		{"m6000010,8", "2affff785634" + "12ff"},
		{"x6000000,6", "b\x00}\x04}\x03}]}\n\xFF"}, {"x607fffc,8", "E01"},
		{"m6002000,5", "612a7e62ff"},
		{"vFlashDone", "OK"},
		{"m7000000,8", "ffffffffffffffff"},
		{"m7002000,4", "4d320512"},
		{"m7002001,2", "3205"},
		// Refused: where, how much, and what.
		{"m607fffc,8", "E01"}, {"m28000000,4", "E01"}, {"m6000000,0", "E01"}, {"m6000000,2000", "E01"}, {"mzz,4", "E01"}, {"m0", "E01"},
		{"mffffffffffffffff,2", "E01"}, {"vFlashErase:06000000,00001000", "E01"}, {"vFlashErase:07001000,00000008", "E01"},
		{"vFlashWrite:7001000:a", "E01"}, {"vFlashWrite:607fffe:abcd", "E01"}, {"vFlashWrite:6000000:", "E01"},
		{"vFlashWrite:zz:a", "E01"}, {"vFlashWrite:6000000", "E01"},
		{"qXfer:memory-map:read:other:0,100", "E00"}, {"qXfer:features:read::0,100", "E00"}, {"M6000000,1:00", "E01"},
		{"X6000000,1:a", "E01"},
		{"qCRC:6000000,4", fmt.Sprintf("C%08x", crc32([]byte("\x00$#}")))},
		{"qCRC:0,4", "E01"}, {"c", "S05"}, {"s", "S05"}, {"vKill;a410", "OK"},
	} {
		assert.Equal(t, step[1], d.ask(step[0]), "%q", step[0])
	}
	// An answer is repeated, never the deed.
	d.ask("vFlashErase:06000000,00002000")
	before := part.Steps
	go io.WriteString(d.conn, "-")
	assert.Equal(t, "OK", d.answer())
	assert.Equal(t, before, part.Steps)
	go io.WriteString(d.conn, "$m6000000,4#00")
	b, err := d.in.ReadByte()
	require.NoError(t, err)
	assert.Equal(t, byte('-'), b)
	assert.Equal(t, "OK", d.ask("QStartNoAckMode"))
	text := d.ask("qXfer:memory-map:read::0,ffb")
	assert.Contains(t, text, `<memory type="flash" start="0x6000000" length="0x10000">`)
	assert.Contains(t, text, `<property name="blocksize">0x2000</property>`)
	assert.Contains(t, text, `<memory type="rom" start="0x7002000" length="0x4">`)
	assert.Equal(t, text[1:5], d.ask("qXfer:memory-map:read::0,4")[1:])
	assert.Equal(t, "m", d.ask("qXfer:memory-map:read::0,4")[:1])
	assert.Contains(t, d.ask("qXfer:features:read:target.xml:0,ffb"), "org.gnu.gdb.arm.m-profile")
	// What is written and not programmed is lost, and said.
	assert.Equal(t, "OK", d.ask("vFlashWrite:6000100:abc"))
	assert.Equal(t, "OK", d.ask("D"))
	s := <-d.session
	_, err = d.in.ReadByte()
	assert.ErrorIs(t, err, io.EOF, "the link is closed")
	assert.Equal(t, "it detached", s.Ended)
	assert.EqualValues(t, 3, s.Lost)
	assert.EqualValues(t, 25, s.Programmed)
	assert.Equal(t, []memory.Span{{First: 0x0600_0000, Last: 0x0600_3FFF}}, s.Erased)
	assert.Len(t, s.Refused, 18)
	for _, text := range s.Refused {
		assert.Contains(t, notes, "refused "+text)
	}
	assert.Contains(t, s.Refused, "to write zz: no address and bytes")
	assert.Contains(t, s.Refused,
		"to erase 0x0600_0000..0x0600_0FFF: 0x0600_0000..0x0600_0FFF is not whole sectors of a memory that is erased")
	assert.Contains(t, s.Refused, "a write to 6000000,1: memory is programmed as flash is, erased first")
}

// TestAddressesThatAreNone asks a part whose memory begins at 0 what is no address and no size.
func TestAddressesThatAreNone(t *testing.T) {
	t.Parallel()
	d := attach(t, &target.Server{Part: partOf(t, "brindle-b8-32"), Machine: "AVR"})
	assert.Equal(t, "ffff", d.ask("m0,2"))
	none := []string{"mzz,2", "m,2", "m0,zz", "m0,", "m0", "m10000000000000000,2", "m0,10000000000000000", "m0,0", "xzz,2", "qCRC:zz,2",
		"vFlashErase:zz,400", "vFlashErase:0,zz"}
	for _, request := range none {
		assert.Equal(t, "E01", d.ask(request), request)
	}
	assert.Equal(t, "OK", d.ask("D"))
	assert.Len(t, (<-d.session).Refused, len(none))
}

// TestListening is refused where it cannot be done.
func TestListening(t *testing.T) {
	t.Parallel()
	taken, err := net.Listen("tcp", "127.0.0.1:0")
	require.NoError(t, err)
	defer taken.Close()
	s := &target.Server{Part: partOf(t, "brindle-b8-32")}
	for address, what := range map[string]string{taken.Addr().String(): "cannot listen at " + taken.Addr().String(),
		"nowhere": "no address to listen at", "127.0.0.1:": "no address to listen at"} {
		err := s.Listen(context.Background(), address, 1, func(string) { t.Error("it listens at " + address) }, func(*target.Session) {})
		assert.ErrorContains(t, err, what)
	}
}

func crc32(data []byte) (crc uint32) {
	crc = 0xFFFF_FFFF
	for _, b := range data {
		crc ^= uint32(b) << 24
		for range 8 {
			if crc&(1<<31) != 0 {
				crc = crc<<1 ^ 0x04C1_1DB7
			} else {
				crc <<= 1
			}
		}
	}
	return crc
}

func image(t testing.TB, first uint64, data []byte) *memory.Image {
	t.Helper()
	m, ok := memory.FromBytes(first, data, &source.Input{Name: "app.bin", Counting: source.Offsets})
	require.True(t, ok)
	return m
}

// TestWhatADebuggerLeaves has faults, cuts and locks judged by what the chip holds.
func TestWhatADebuggerLeaves(t *testing.T) {
	data := bytes.Repeat([]byte{0x5A, 0x33, 0x0F, 0x10}, 0x300)
	load := func(d *debugger) (answers []string) {
		defer func() { _ = recover() }()
		for _, r := range []string{"vFlashErase:06000000,00002000", "vFlashWrite:6000000:" + binary(string(data)), "vFlashDone"} {
			d.conn.SetDeadline(time.Now().Add(20 * time.Second))
			go io.WriteString(d.conn, packet(r))
			if _, err := d.in.ReadString('$'); err != nil {
				return append(answers, "gone")
			}
			text, _ := d.in.ReadString('#')
			d.in.Discard(2)
			answers = append(answers, strings.TrimSuffix(text, "#"))
		}
		return answers
	}
	for _, c := range []struct {
		fault   string
		answers string
		ended   string
		differ  uint64
	}{
		{"", "OK OK OK", "it closed the connection", 0},
		{"page-dead 0x06000200", "OK OK OK", "it closed the connection", 0x200},
		{"stuck 0x06000003.5=1", "OK OK OK", "it closed the connection", 0x1},
		{"cut 1 before", "gone", "the power failed", 0xC00},
		{"cut 3", "OK OK gone", "the power failed", 0x400},
		{"cut 7 after", "OK OK gone", "the power failed", 0},
		{"cut 8", "OK OK OK", "it closed the connection", 0},
	} {
		faults := strings.Fields(c.fault)
		if len(faults) > 0 {
			faults = []string{c.fault}
		}
		part := partOf(t, "brindle-m32-512", faults...)
		d := attach(t, &target.Server{Part: part})
		assert.Equal(t, c.answers, strings.Join(load(d), " "), c.fault)
		d.conn.Close()
		s := <-d.session
		assert.Equal(t, c.ended, s.Ended, c.fault)
		left := part.Judge(image(t, 0x0600_0000, data))
		got := left.Compared.Differ + left.Compared.OnlyFirst
		if c.fault == "cut 3" {
			assert.Less(t, got, uint64(0xA01), c.fault)
			assert.Greater(t, got, uint64(0x7FF), "the second page is torn, the rest is erased")
		} else {
			assert.Equal(t, c.differ, got, c.fault)
		}
		assert.Equal(t, got == 0, left.Compared.Same(), c.fault)
		assert.False(t, left.Good(), "it has no station: %s", c.fault)
	}
	// Written twice: the same bytes, then others; one byte, and an erase before it is done with.
	twice := attach(t, &target.Server{Part: partOf(t, "brindle-m32-512")})
	for _, step := range [][2]string{
		{"vFlashErase:06000000,00002000", "OK"},
		{"vFlashWrite:6000000:ab", "OK"}, {"vFlashWrite:6000010:c", "OK"}, {"vFlashWrite:6000000:ab", "OK"}, {"vFlashDone", "OK"},
		{"vFlashWrite:6000100:ab", "OK"}, {"vFlashWrite:6000110:c", "OK"}, {"vFlashWrite:6000101:c", "OK"}, {"vFlashDone", "E01"},
		{"vFlashWrite:6000200:x", "OK"}, {"vFlashErase:06000000,00002000", "OK"}, {"vFlashDone", "OK"}, {"m6000200,1", "ff"},
		{"m6000000,2", "ffff"},
	} {
		assert.Equal(t, step[1], twice.ask(step[0]), "%q", step[0])
	}
	twice.conn.Close()
	session := <-twice.session
	assert.Equal(t, []string{
		"to program: the same address was written twice, with different bytes",
		"what was written (1 byte): an erase came before it was said that they are all",
	}, session.Refused)
	assert.EqualValues(t, 3, session.Read)
	// A chip that is locked is refused.
	part := partOf(t, "brindle-b8-32")
	lock, readOut := part.Chip.Map.Field("read_out")
	require.NotNil(t, readOut)
	locked := image(t, lock.At, lock.Bytes(lock.Default&^readOut.Mask()))
	part.Chip.Program(locked)
	d := attach(t, &target.Server{Part: part})
	assert.Equal(t, "E01", d.ask("m0,4"))
	assert.Equal(t, "E01", d.ask("vFlashErase:0,100"))
	d.conn.Close()
	refused := (<-d.session).Refused
	require.Len(t, refused, 2)
	assert.Contains(t, refused[0], "reading 0,4: the device is locked by ")
}

// proxy is a link between a client and a server that drops, delays, doubles and changes what it
// carries to the client, and keeps what the client asked.
type proxy struct {
	address string
	mu      sync.Mutex
	asked   bytes.Buffer
	harm    int
}

func link(t *testing.T, to string, seed uint64, often int) *proxy {
	listener, err := net.Listen("tcp", "127.0.0.1:0")
	require.NoError(t, err)
	t.Cleanup(func() { listener.Close() })
	p := &proxy{address: listener.Addr().String()}
	go func() {
		for n := uint64(0); ; n++ {
			client, err := listener.Accept()
			if err != nil {
				return
			}
			server, err := net.Dial("tcp", to)
			if err != nil {
				client.Close()
				continue
			}
			go func() {
				defer server.Close()
				buffer := make([]byte, 4096)
				for {
					n, err := client.Read(buffer)
					if err != nil {
						return
					}
					p.mu.Lock()
					p.asked.Write(buffer[:n])
					p.mu.Unlock()
					server.Write(buffer[:n])
				}
			}()
			go func() {
				defer client.Close()
				r := rand.New(rand.NewPCG(seed, n))
				buffer := make([]byte, 16<<10)
				for {
					n, err := server.Read(buffer)
					if err != nil {
						return
					}
					out := bytes.Clone(buffer[:n])
					if r.IntN(often) == 0 {
						p.mu.Lock()
						p.harm++
						p.mu.Unlock()
						switch at := r.IntN(n); r.IntN(5) {
						case 0: // one character is lost
							out = append(out[:at], out[at+1:]...)
						case 1: // or comes twice
							out = append(out[:at+1], out[at:]...)
						case 2:
							out[at] ^= 1 << r.IntN(8)
						case 3: // the answer comes twice
							out = append(out, out...)
						case 4:
							time.Sleep(time.Duration(r.IntN(300)) * time.Millisecond)
						}
					}
					client.Write(out)
				}
			}()
		}
	}()
	return p
}

// TestOverABadLink reads a chip that we serve over links that spoil what they carry: what is
// read is right, or an error is told; nothing but reading is ever asked.
func TestOverABadLink(t *testing.T) {
	t.Parallel()
	part := partOf(t, "brindle-m32-512")
	r := rand.New(rand.NewPCG(1, 2))
	data := make([]byte, 512<<10)
	for i := range data {
		data[i] = byte(r.Uint32())
	}
	part.Chip.Program(image(t, 0x0600_0000, data))
	s := &target.Server{Part: part}
	ctx, end := context.WithCancel(context.Background())
	ready := make(chan string, 1)
	done := make(chan error, 1)
	go func() {
		done <- s.Listen(ctx, ":0", 0, func(a string) { ready <- a }, func(*target.Session) {})
	}()
	address := <-ready
	assert.True(t, strings.HasPrefix(address, "127.0.0.1:"), "no other machine reaches it")
	all := memory.Span{First: 0x0600_0000, Last: 0x0607_FFFF}
	rounds, right, harmed, again := 6, 0, 0, 0
	if testing.Short() {
		rounds = 3
	}
	for seed := range rounds {
		p := link(t, address, uint64(seed), 40)
		one, err := target.Open(context.Background(), p.address,
			target.Waits{Connect: 5 * time.Second, Quiet: 20 * time.Millisecond, First: time.Second, Answer: time.Second})
		if err == nil {
			var out *target.Reading
			if out, err = one.Read([]memory.Span{all}, target.ReadOptions{}); err == nil {
				right++
				assert.True(t, bytes.Equal(data, held(t, out.Image, all)), "seed %d: other bytes, and no error", seed)
				assert.Empty(t, out.Unreadable)
			}
			again += one.Reconnected
			one.Close()
		}
		p.mu.Lock()
		harmed += p.harm
		for request := range strings.SplitSeq(p.asked.String(), "$") {
			if body, _, ok := strings.Cut(request, "#"); ok {
				assertHarmless(t, []string{body})
				var at, n uint64
				if k, _ := fmt.Sscanf(strings.Replace(body, "x", "m", 1), "m%x,%x", &at, &n); k == 2 && body[0] != 'q' {
					assert.True(t, all.First <= at && n > 0 && at+n-1 <= all.Last, body)
				}
			}
		}
		p.mu.Unlock()
	}
	t.Logf("of %d readings %d were right, %d spoiled answers, %d new connections", rounds, right, harmed, again)
	assert.NotZero(t, right)
	assert.NotZero(t, harmed)
	end()
	assert.NoError(t, <-done)
}

// FuzzServer has a debugger send anything.
func FuzzServer(f *testing.F) {
	for _, seed := range []string{
		packet("qSupported") + packet("vFlashErase:06000000,2000") + packet("vFlashWrite:6000000:abc") + packet("vFlashDone"),
		packet("m6000000,800"),
		"$m0,$m0,4#fd", "-$#00--+\x03", packet("qXfer:memory-map:read::ffffffff,ffffffff"), packet("qCRC:6000000,ffffffffffffffff"),
		"$" + strings.Repeat("a", 1000),
		packet("vFlashWrite:6000000:}"), packet("m}"), packet("*"), packet("a*~"), packet("qCRC:50000000,400000"),
	} {
		f.Add([]byte(seed))
	}
	f.Fuzz(func(t *testing.T, sent []byte) {
		part := partOf(t, "brindle-m32-512")
		ours, theirs := net.Pipe()
		ended := make(chan *target.Session, 1)
		go func() { ended <- (&target.Server{Part: part}).Serve(context.Background(), theirs) }()
		go func() {
			ours.Write(sent)
			time.Sleep(time.Millisecond)
			ours.Close()
		}()
		io.Copy(io.Discard, ours)
		s := <-ended
		assert.NotEmpty(t, s.Ended)
		assert.LessOrEqual(t, len(s.Refused), 20)
	})
}

// FuzzClient has a server send anything.
func FuzzClient(f *testing.F) {
	for _, seed := range []string{
		"+" + packet("PacketSize=1000") + "+" + packet("S05") + "+" + packet("00112233"), "$T02thread:01;#04", packet("E01"),
		packet("0*~"), packet(strings.Repeat("0*~", 2000)),
		"%Stop:T05#4b", "----", "$",
		packet("PacketSize=ffffffff;qXfer:memory-map:read+") + packet("T05thread:p"+strings.Repeat("1", 99)+".1;"),
	} {
		f.Add([]byte(seed))
	}
	f.Fuzz(func(t *testing.T, sent []byte) {
		listener, err := net.Listen("tcp", "127.0.0.1:0")
		require.NoError(t, err)
		defer listener.Close()
		go func() {
			for {
				conn, err := listener.Accept()
				if err != nil {
					return
				}
				go func() {
					conn.Write(sent)
					conn.SetReadDeadline(time.Now().Add(20 * time.Millisecond))
					io.Copy(io.Discard, conn)
					conn.Close()
				}()
			}
		}()
		short := 10 * time.Millisecond
		one, err := target.Open(context.Background(), listener.Addr().String(),
			target.Waits{Quiet: short, First: short, Answer: short, Leave: short})
		if err != nil {
			return
		}
		one.Memories()
		out, err := one.Read([]memory.Span{{First: 0x1000, Last: 0x100F}}, target.ReadOptions{})
		if err == nil {
			assert.EqualValues(t, 16, out.Image.Bytes()+memory.SizeOf(out.Unreadable))
		}
		assert.NotEmpty(t, one.Close())
	})
}
