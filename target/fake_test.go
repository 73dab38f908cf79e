package target_test

import (
	"bufio"
	"context"
	"fmt"
	"io"
	"net"
	"os"
	"strings"
	"sync"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"mexalt/internal/golden"
	"mexalt/target"
)

func TestMain(m *testing.M) { os.Exit(golden.Waiting(m)) }

// patient are waits for tests on a machine that is busy, soon for those in which nothing comes.
var patient = target.Waits{Connect: 5 * time.Second, Quiet: 30 * time.Millisecond, First: 10 * time.Second, Answer: 10 * time.Second,
	Leave: 10 * time.Second}

var soon = target.Waits{Connect: time.Second, Quiet: 30 * time.Millisecond, First: 200 * time.Millisecond, Answer: 200 * time.Millisecond,
	Leave: 200 * time.Millisecond}

// fake is a server that answers as a test says.
type fake struct {
	address string
	hello   string                      // sent when a client connects
	answers map[string]string           // raw packets are made of them; by the request
	raw     func(request string) string // what is sent as it stands; "" is that answers decide

	mu       sync.Mutex
	requests []string
	between  []string // what came before each, such as acknowledgements
	clients  int
}

func packet(data string) string {
	sum := byte(0)
	for i := range len(data) {
		sum += data[i]
	}
	return fmt.Sprintf("$%s#%02x", data, sum)
}

// serve starts the server.
func (f *fake) serve(t *testing.T) {
	t.Helper()
	listener, err := net.Listen("tcp", "127.0.0.1:0")
	require.NoError(t, err)
	t.Cleanup(func() { listener.Close() })
	f.address = listener.Addr().String()
	go func() {
		for {
			conn, err := listener.Accept()
			if err != nil {
				return
			}
			f.mu.Lock()
			f.clients++
			f.mu.Unlock()
			go f.client(conn)
		}
	}()
}

func (f *fake) client(conn net.Conn) {
	defer conn.Close()
	io.WriteString(conn, f.hello)
	in := bufio.NewReader(conn)
	for {
		before, err := in.ReadString('$')
		if err != nil {
			return
		}
		request, err := in.ReadString('#')
		if err != nil {
			return
		}
		in.Discard(2)
		request = strings.TrimSuffix(request, "#")
		f.mu.Lock()
		f.requests, f.between = append(f.requests, request), append(f.between, strings.TrimSuffix(before, "$"))
		f.mu.Unlock()
		out := "+"
		if f.raw != nil {
			if raw := f.raw(request); raw != "" {
				io.WriteString(conn, raw)
				continue
			}
		}
		answer, ok := f.answers[request]
		switch {
		case ok:
		case request == "?":
			answer = "S05"
		case strings.HasPrefix(request, "m"):
			var at, n uint64
			fmt.Sscanf(request, "m%x,%x", &at, &n)
			for i := range n {
				answer += fmt.Sprintf("%02x", byte(at+i)^byte((at+i)>>8))
			}
		}
		io.WriteString(conn, out+packet(answer))
	}
}

func (f *fake) asked() []string {
	f.mu.Lock()
	defer f.mu.Unlock()
	return append([]string{}, f.requests...)
}

// open connects to the server.
func (f *fake) open(t *testing.T) *target.Target {
	t.Helper()
	if f.address == "" {
		f.serve(t)
	}
	one, err := target.Open(context.Background(), f.address, patient)
	require.NoError(t, err)
	return one
}

// harmless are all requests that a client may send, as they begin.
var harmless = []string{"qSupported", "?", "QStartNoAckMode", "qXfer:memory-map:read:", "qXfer:features:read:target.xml:", "qCRC:", "m",
	"x", "D"}

// assertHarmless holds what was asked against what may be.
func assertHarmless(t *testing.T, requests []string) {
	t.Helper()
	for _, r := range requests {
		ok := false
		for _, h := range harmless {
			ok = ok || strings.HasPrefix(r, h)
		}
		assert.True(t, ok, "asked %q", r)
	}
}
