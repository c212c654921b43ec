package process

import (
	"bufio"
	"bytes"
	"context"
	"encoding/json"
	"fmt"
	"os"
	"os/exec"
	"path/filepath"
	"strings"
	"sync"
	"testing"
	"time"

	"github.com/stretchr/testify/require"

	"kasbah/core/driver"
	"kasbah/core/value"
	"kasbah/drivers/conformance"
	"kasbah/drivers/drivertest"
	"kasbah/medina"
	"kasbah/transport"
)

// TestMain lets the test be a child as well: a good one in front of Medina, or a
// hostile one.
func TestMain(m *testing.M) {
	switch role := os.Getenv("DRIVER_ROLE"); role {
	case "":
		os.Exit(m.Run())
	case "medina":
		if err := serveMedina(); err != nil {
			fmt.Fprintln(os.Stderr, err)
			os.Exit(1)
		}
	default:
		hostile(role)
	}
}

func serveMedina() error {
	var doc struct {
		Components struct{ Schemas json.RawMessage }
	}
	if err := json.Unmarshal(medina.Document(), &doc); err != nil {
		return err
	}
	open := func(s value.Map, who string) (driver.Driver, error) {
		return medina.Settings{API: "embedded", Options: medina.Options{Path: fmt.Sprint(s["path"])}}.Driver(who)
	}
	return Serve(context.Background(), "medina", Schemas{"1", doc.Components.Schemas}, open, os.Stdin, os.Stdout)
}

func opened(t *testing.T, o Options) *Driver {
	o.Name, o.From, o.Env = "tide", "tester", []string{"DRIVER_ROLE"}
	d, err := New(o)
	require.NoError(t, err)
	t.Cleanup(func() { require.NoError(t, d.Close()) })
	return d
}

func TestMedinaBehindAProgram(t *testing.T) {
	t.Setenv("DRIVER_ROLE", "medina")
	drivertest.Run(t, opened(t, Options{Command: []string{os.Args[0]},
		Settings: value.Map{"path": filepath.Join(t.TempDir(), "medina.db")}}), conformance.Sample{
		Type: "network",
		Inputs: func(n int) value.Map {
			return value.Map{"name": fmt.Sprint("net-", n), "range": fmt.Sprintf("10.%d.0.0/16", n%250)}
		},
		Edit: driver.Change{From: value.Map{}, To: value.Map{"tags": value.Map{"a": "b"}}},
	})
}

// TestFeedOfAProgram: a program tells what happened oldest first, and who asks gets the newest first.
func TestFeedOfAProgram(t *testing.T) {
	t.Setenv("DRIVER_ROLE", "medina")
	d, ctx := opened(t, Options{Command: []string{os.Args[0]},
		Settings: value.Map{"path": filepath.Join(t.TempDir(), "medina.db")}}), context.Background()
	net, err := d.Create(ctx, "network", value.Map{"name": "quay", "range": "10.1.0.0/16"}, "")
	require.NoError(t, err)
	_, err = d.Create(ctx, "network", value.Map{"name": "pier", "range": "10.2.0.0/16"}, "")
	require.NoError(t, err)
	time.Sleep(2 * time.Millisecond) // the feed's times are in milliseconds
	before := time.Now()
	_, err = d.Update(ctx, "network", net.ID, driver.Change{To: value.Map{"tags": value.Map{"a": "b"}}}, "", "")
	require.NoError(t, err)
	told := func(which driver.Events) (out []string) {
		for e, err := range d.Changes(ctx, which) {
			require.NoError(t, err)
			out = append(out, e.What)
		}
		return out
	}
	require.Equal(t, []string{"edited", "created", "created"}, told(driver.Events{}))
	require.Equal(t, []string{"edited", "created"}, told(driver.Events{Type: "network", ID: net.ID}))
	require.Equal(t, []string{"edited"}, told(driver.Events{Since: before.Truncate(time.Millisecond)}))
}

func TestPython(t *testing.T) {
	python, err := exec.LookPath("python3")
	if err != nil {
		t.Skip("there is no Python here; scripts/test installs it")
	}
	script, err := filepath.Abs("examples/python/folder.py")
	require.NoError(t, err)
	drivertest.Run(t, opened(t, Options{Command: []string{python, script}, Dir: t.TempDir()}), conformance.Sample{
		Type: "file",
		Inputs: func(n int) value.Map {
			return value.Map{"path": fmt.Sprintf("notes/%d.txt", n), "text": "high water\n"}
		},
		Edit: driver.Change{From: value.Map{"text": "high water\n"}, To: value.Map{"text": "low water\n"}},
	})
}

func TestGo(t *testing.T) {
	program := filepath.Join(t.TempDir(), "lamps")
	out, err := exec.Command("go", "build", "-o", program, "./examples/go").CombinedOutput()
	require.NoError(t, err, string(out))
	drivertest.Run(t, opened(t, Options{Command: []string{program}}), conformance.Sample{
		Type:   "lamp",
		Inputs: func(n int) value.Map { return value.Map{"name": fmt.Sprint("lamp-", n)} },
		Edit:   driver.Change{From: value.Map{"lit": false}, To: value.Map{"lit": true}},
	})
}

// hostile is a child that says hello and then misbehaves, by its role.
func hostile(role string) {
	in := bufio.NewReader(os.Stdin)
	var mu sync.Mutex
	say := func(v any) {
		mu.Lock()
		defer mu.Unlock()
		_ = transport.Frames{}.WriteObject(os.Stdout, v)
	}
	for {
		var m struct {
			ID     *uint64
			Method string
			Params json.RawMessage
		}
		if (transport.Frames{}).ReadObject(in, &m) != nil {
			return
		}
		reply := func(result any) { say(map[string]any{"jsonrpc": "2.0", "id": m.ID, "result": result}) }
		good := map[string]any{"id": "lamp-1", "attributes": map[string]any{"name": "x"}}
		switch m.Method {
		case "hello":
			switch role {
			case "foreign":
				reply(map[string]any{"protocol": "other/9", "name": role})
			case "dead":
				fmt.Fprintln(os.Stderr, "no tide tables here")
				os.Exit(7)
			default:
				reply(map[string]any{"protocol": Protocol, "name": role})
			}
		case "describe":
			if role == "blank" {
				reply(map[string]any{"version": "1", "types": "none"})
				continue
			}
			reply(map[string]any{"version": "1", "types": map[string]any{"lamp": map[string]any{"type": "object",
				"x-kasbah": map[string]any{}, "properties": map[string]any{
					"id": map[string]any{"type": "string", "readOnly": true}, "name": map[string]any{"type": "string"},
					"code": map[string]any{"type": "string", "writeOnly": true}}}}})
		case "read":
			var p thingParams
			_ = json.Unmarshal(m.Params, &p)
			if p.ID == "lamp-1" { // all of them can do this
				reply(good)
				continue
			}
			switch role {
			case "hangs":
			case "dies":
				fmt.Fprintln(os.Stderr, "the lamp fell over")
				os.Exit(3)
			case "lies":
				reply(map[string]any{"id": "lamp-9", "attributes": map[string]any{}})
			case "nameless":
				reply(map[string]any{"attributes": map[string]any{}})
			case "babbles":
				fmt.Println("Hello! I am a driver, and this is not a message.")
			case "boasts":
				fmt.Printf("Content-Length: %d\r\n\r\n{}", int64(1)<<40)
			case "endless header":
				fmt.Print(strings.Repeat("x", 1<<20))
			case "floods":
				for {
					say(map[string]any{"jsonrpc": "2.0", "method": "look", "params": map[string]any{}})
				}
			case "asks":
				say(map[string]any{"jsonrpc": "2.0", "id": 999, "method": "secrets", "params": map[string]any{}})
				say(map[string]any{"jsonrpc": "2.0", "id": 12345, "result": "an answer to nothing"})
				reply(map[string]any{"id": p.ID, "attributes": map[string]any{"code": "1234", "name": nil}})
			case "shouts":
				fmt.Fprintln(os.Stderr, strings.Repeat("a word \x1b[31m", 1<<18))
				reply(map[string]any{"id": p.ID, "attributes": map[string]any{}})
			case "raves":
				reply([]int{1, 2, 3})
			}
		case "update":
			if role == "deaf" { // and says nothing either, until it is ended
				time.Sleep(time.Hour)
			}
			reply(good)
		case "list":
			reply(map[string]any{"things": []any{}, "next": "again"})
		case "create":
			if role == "late" {
				var p struct{ Inputs struct{ Name string } }
				_ = json.Unmarshal(m.Params, &p)
				_ = os.WriteFile(p.Inputs.Name+".begun", nil, 0o600)
				time.Sleep(time.Second)
				_ = os.WriteFile(p.Inputs.Name, nil, 0o600)
			}
			os.Exit(5)
		}
	}
}

// TestHostile: whatever a child does costs the call at hand, is said in words,
// and the next call is answered.
func TestHostile(t *testing.T) {
	for _, c := range []struct{ role, want string }{
		{"hangs", "gave no answer within 1s"},
		{"dies", "it ended (exit status 3); the last line of its log: the lamp fell over"},
		{"lies", "was asked about lamp-2 and shows lamp-9"},
		{"nameless", "shows a lamp without an id"},
		{"babbles", "it wrote something other than a message"},
		{"boasts", "it wrote a message of 1099511627776 bytes"},
		{"endless header", "it wrote something other than a message"},
		{"floods", "more than 10000 messages without a request"},
		{"raves", "the answer of its driver cannot be read"},
		{"asks", ""},
		{"shouts", ""},
	} {
		t.Run(c.role, func(t *testing.T) {
			t.Setenv("DRIVER_ROLE", c.role)
			ctx, cancel := context.WithTimeout(context.Background(), time.Minute)
			defer cancel()
			d := opened(t, Options{Command: []string{os.Args[0]}})
			usual := readWithin
			if c.role == "hangs" {
				readWithin = time.Second
			}
			got, err := d.Read(ctx, "lamp", "lamp-2")
			readWithin = usual
			if c.want == "" {
				require.NoError(t, err)
				require.Equal(t, driver.Live{ID: "lamp-2", Attributes: value.Map{"id": "lamp-2"}}, got,
					"a secret that nobody asked for is not heard")
			} else {
				require.ErrorContains(t, err, c.want)
			}
			good, err := d.Read(ctx, "lamp", "lamp-1")
			require.NoError(t, err)
			require.Equal(t, "x", good.Attributes["name"])
			_, err = d.Create(ctx, "lamp", value.Map{"name": "new"}, "key")
			require.Equal(t, driver.Unknown, driver.OutcomeOf(err), "%v", err)
			for _, err := range d.List(ctx, "lamp") {
				require.ErrorContains(t, err, "does not end")
			}
			_, err = d.Read(ctx, "lamp", "lamp-1")
			require.NoError(t, err)
		})
	}
	for _, c := range []struct{ role, want string }{
		{"foreign", `it speaks "other/9", and this version of kasbah speaks kasbah.driver/1`},
		{"dead", "it ended (exit status 7); the last line of its log: no tide tables here"},
		{"blank", "what its program describes cannot be used"},
	} {
		t.Run(c.role, func(t *testing.T) {
			t.Setenv("DRIVER_ROLE", c.role)
			_, err := opened(t, Options{Command: []string{os.Args[0]}}).Describe(context.Background())
			require.ErrorContains(t, err, c.want)
		})
	}
	_, err := opened(t, Options{Command: []string{"/no/such/program"}}).Describe(context.Background())
	require.ErrorContains(t, err, "cannot be started")
}

// TestDeaf: a child that reads nothing holds up nobody: a call ends with its time, and at
// once when it is cancelled; so do the calls behind it, and the next one is answered.
func TestDeaf(t *testing.T) {
	t.Setenv("DRIVER_ROLE", "deaf")
	d := opened(t, Options{Command: []string{os.Args[0]}})
	_, err := d.Describe(context.Background())
	require.NoError(t, err)
	long := driver.Change{To: value.Map{"name": strings.Repeat("x", 1<<20)}} // no pipe takes as much
	for _, cancelled := range []bool{false, true} {
		ctx, cancel := context.WithTimeout(context.Background(), time.Second)
		if cancelled {
			ctx, cancel = context.WithCancel(context.Background())
			time.AfterFunc(time.Second, cancel)
		}
		began := time.Now()
		var all sync.WaitGroup
		for range 4 {
			all.Go(func() {
				_, err := d.Update(ctx, "lamp", "lamp-1", long, "", "key")
				if driver.OutcomeOf(err) != driver.Unknown {
					t.Errorf("it may have been heard: %v", err)
				}
			})
		}
		all.Wait()
		cancel()
		require.Less(t, time.Since(began), 10*time.Second)
		_, err := d.Read(context.Background(), "lamp", "lamp-1")
		require.NoError(t, err)
	}
}

// TestNothingIsLeft: closing ends the program and what it has started, one that
// does not listen too.
func TestNothingIsLeft(t *testing.T) {
	t.Setenv("DRIVER_ROLE", "hangs")
	d := opened(t, Options{Command: []string{os.Args[0]}})
	_, err := d.Describe(context.Background())
	require.NoError(t, err)
	c := d.child
	require.NoError(t, d.Close())
	<-c.ended
	require.NotNil(t, c.cmd.ProcessState)
	_, err = d.Read(context.Background(), "lamp", "lamp-1")
	require.ErrorContains(t, err, "closed")
}

// FuzzCodec: whatever a child writes is a message or an error, and never more
// than may be.
func FuzzCodec(f *testing.F) {
	f.Add([]byte("Content-Length: 2\r\n\r\n{}"))
	f.Add([]byte("Content-Length: -1\r\n\r\n"))
	f.Add([]byte("content-length:2\n\n[]"))
	f.Fuzz(func(t *testing.T, b []byte) {
		var v any
		if (transport.Frames{}).ReadObject(bufio.NewReader(bytes.NewReader(b)), &v) == nil {
			var out bytes.Buffer
			require.NoError(t, transport.Frames{}.WriteObject(&out, v))
			var again any
			require.NoError(t, transport.Frames{}.ReadObject(bufio.NewReader(&out), &again))
			require.Equal(t, v, again)
		}
	})
}
