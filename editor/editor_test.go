package editor

import (
	"context"
	"encoding/json"
	"errors"
	"fmt"
	"io"
	"math/rand/v2"
	"net"
	"os"
	"path/filepath"
	"runtime"
	"slices"
	"strconv"
	"strings"
	"sync"
	"testing"
	"time"

	"github.com/sourcegraph/jsonrpc2"
	"github.com/stretchr/testify/require"
	protocol "github.com/tliron/glsp/protocol_3_16"

	"kasbah/core/code"
	"kasbah/core/estate"
	"kasbah/core/ledger"
	"kasbah/core/problem"
	"kasbah/home"
	"kasbah/session"
	"kasbah/transport"
)

// demo is a copy of the demo's estate.
func demo(t testing.TB) string {
	dir, err := filepath.EvalSymlinks(t.TempDir())
	require.NoError(t, err)
	require.NoError(t, os.CopyFS(dir, os.DirFS("../demo/lantern-coast")))
	return dir
}

func open(ctx context.Context, dir, env string, texts map[string][]byte) (*session.Session, error) {
	return session.Open(ctx, session.Config{Dir: dir, Env: env, Overlay: texts, Lenient: true,
		Identity: ledger.Identity{Who: "keeper-1", Host: "t3", Program: "test"},
		Home:     func() (*home.Home, error) { return nil, errors.New("no home here") }})
}

// client is an editor in the same process.
type client struct {
	t    testing.TB
	dir  string
	conn *jsonrpc2.Conn
	done chan error

	mu          sync.Mutex
	diagnostics map[string][]protocol.Diagnostic
	published   int
	changed     *sync.Cond
	version     int32
}

// connect begins a session of an editor on an estate.
func connect(t testing.TB, dir string, settings map[string]any) *client {
	ours, theirs := net.Pipe()
	c := &client{t: t, dir: dir, done: make(chan error, 1), diagnostics: map[string][]protocol.Diagnostic{}}
	c.changed = sync.NewCond(&c.mu)
	go func() {
		c.done <- Serve(context.Background(), theirs, Options{Open: open, Version: "test", Wait: time.Millisecond})
	}()
	c.conn = jsonrpc2.NewConn(context.Background(), jsonrpc2.NewBufferedStream(ours, transport.Frames{}),
		reading{jsonrpc2.HandlerWithError(c.handle)})
	var caps protocol.ClientCapabilities
	require.NoError(t, json.Unmarshal([]byte(`{"textDocument": {"completion": {"completionItem": {"snippetSupport": true}}}}`), &caps))
	c.call("initialize", protocol.InitializeParams{RootURI: ptr(uriOf(dir)), Capabilities: caps, InitializationOptions: settings}, nil)
	c.tell("initialized", protocol.InitializedParams{})
	t.Cleanup(func() {
		c.call("shutdown", nil, nil)
		c.tell("exit", nil)
		select {
		case err := <-c.done:
			require.NoError(t, err)
		case <-time.After(time.Minute):
			t.Error("the server does not end")
		}
	})
	return c
}

// reading goes on reading while it answers what the server asks, as editors do: on a pipe without a buffer, two that
// write before they read on would wait for each other for ever.
type reading struct{ jsonrpc2.Handler }

func (r reading) Handle(ctx context.Context, conn *jsonrpc2.Conn, asked *jsonrpc2.Request) {
	if asked.Notif { // these are in an order
		r.Handler.Handle(ctx, conn, asked)
		return
	}
	go r.Handler.Handle(ctx, conn, asked)
}

func (c *client) handle(_ context.Context, _ *jsonrpc2.Conn, r *jsonrpc2.Request) (any, error) {
	if r.Method == "textDocument/publishDiagnostics" {
		var p protocol.PublishDiagnosticsParams
		if err := json.Unmarshal(*r.Params, &p); err != nil {
			return nil, err
		}
		c.mu.Lock()
		c.diagnostics[p.URI] = p.Diagnostics
		c.published++
		c.mu.Unlock()
		c.changed.Broadcast()
	}
	return nil, nil
}

func (c *client) call(method string, params, result any) {
	c.t.Helper()
	require.NoError(c.t, c.try(method, params, result), method)
}

func (c *client) try(method string, params, result any) error {
	ctx, cancel := context.WithTimeout(context.Background(), time.Minute)
	defer cancel()
	return c.conn.Call(ctx, method, params, result)
}

func (c *client) tell(method string, params any) {
	c.t.Helper()
	require.NoError(c.t, c.conn.Notify(context.Background(), method, params))
}

func (c *client) uri(file string) string { return uriOf(filepath.Join(c.dir, file)) }

// open opens a file with a text; as it is on the disk for "".
func (c *client) open(file, text string) string {
	c.t.Helper()
	if text == "" {
		body, err := os.ReadFile(filepath.Join(c.dir, file))
		require.NoError(c.t, err)
		text = string(body)
	}
	c.tell("textDocument/didOpen", protocol.DidOpenTextDocumentParams{TextDocument: protocol.TextDocumentItem{
		URI: c.uri(file), LanguageID: "starlark", Version: 1, Text: text}})
	return text
}

func (c *client) change(file, text string) {
	c.version++
	c.tell("textDocument/didChange", protocol.DidChangeTextDocumentParams{
		TextDocument:   protocol.VersionedTextDocumentIdentifier{TextDocumentIdentifier: protocol.TextDocumentIdentifier{URI: c.uri(file)}, Version: c.version},
		ContentChanges: []any{protocol.TextDocumentContentChangeEventWhole{Text: text}}})
}

// until waits until the diagnostics of a file are as wanted.
func (c *client) until(file string, fits func([]protocol.Diagnostic) bool) []protocol.Diagnostic {
	c.t.Helper()
	late := time.AfterFunc(30*time.Second, c.changed.Broadcast)
	defer late.Stop()
	end := time.Now().Add(30 * time.Second)
	c.mu.Lock()
	defer c.mu.Unlock()
	for !fits(c.diagnostics[c.uri(file)]) {
		if time.Now().After(end) {
			c.t.Fatalf("%s: the diagnostics stay as they are: %v", file, c.diagnostics[c.uri(file)])
		}
		c.changed.Wait()
	}
	return c.diagnostics[c.uri(file)]
}

func says(text string) func([]protocol.Diagnostic) bool {
	return func(list []protocol.Diagnostic) bool {
		return slices.ContainsFunc(list, func(d protocol.Diagnostic) bool { return strings.Contains(d.Message, text) })
	}
}

// at is the place of a text in a file, and some characters on.
func at(t testing.TB, c *client, file, text, find string, on int) protocol.TextDocumentPositionParams {
	t.Helper()
	i := strings.Index(text, find)
	require.GreaterOrEqual(t, i, 0, find)
	line := strings.Count(text[:i], "\n")
	column := i - strings.LastIndex(text[:i], "\n") - 1
	return protocol.TextDocumentPositionParams{TextDocument: protocol.TextDocumentIdentifier{URI: c.uri(file)},
		Position: protocol.Position{Line: uint32(line), Character: uint32(column + on)}}
}

// applied is a text after edits.
func applied(text string, edits []protocol.TextEdit) string {
	f := (&project{texts: map[string][]byte{"x": []byte(text)}}).lines("x")
	slices.SortStableFunc(edits, func(a, b protocol.TextEdit) int { return offset(f, b.Range.Start) - offset(f, a.Range.Start) })
	for _, e := range edits {
		text = text[:offset(f, e.Range.Start)] + e.NewText + text[offset(f, e.Range.End):]
	}
	return text
}

// checked is what `kasbah check` says of the files of a folder.
func checked(t testing.TB, dir, env string) []string {
	t.Helper()
	ctx := context.Background()
	s, err := open(ctx, dir, env, nil)
	var list problem.List
	if err != nil {
		list.Add(err)
	} else {
		e, err := s.Evaluate(ctx, s.Others())
		require.NoError(t, err)
		list = e.Problems
		if list.Wrong() == 0 {
			list = append(list, s.SecretProblems(ctx, e.Declared, problem.Warning)...)
			list.Sort()
		}
	}
	if s != nil {
		require.NoError(t, s.Close())
	}
	return said(list)
}

func said(list problem.List) []string {
	out := []string{}
	for _, p := range list {
		out = append(out, fmt.Sprintf("%s %s ward %q hint %q via %v", p.Level, p.Error(), p.Ward, p.Hint, p.Via))
	}
	return out
}

// typing makes random edits as people make them, right and wrong ones.
type typing struct {
	*rand.Rand
	files []string
	was   map[string]string
	now   map[string]string
}

var typed = []string{"(", ")", "[", "]", "{", "}", ",", "=", " = ", ".", ":", "\"", "#", "\n", "\n    ", " ", "medina", "medina.machine(\"x\", ",
	"size = \"tiny\"", "size = \"huge\"", "relay", "lights", "True", "7", "published(\"shore\", \"gauges\")", "published(\"signal\", \"relay\")",
	"publish(\"x\", 1)\n", "load(\"kit:station\", \"station\")\n", "if True:\n    ", "for x in lights:\n    ", "def f():\n    ", "tags = owned(), ", "é", "☂", "\t",
	"care = care(guard = True), ", "input(\"n\", kind.int)", "x = y\n", "lights = 4\n", "[env.trial]\n", "a = 1\n"}

func newTyping(t testing.TB, dir string, seed uint64) *typing {
	y := &typing{Rand: rand.New(rand.NewPCG(seed, 24)), was: map[string]string{}, now: map[string]string{}}
	for _, f := range []string{"kasbah.toml", "shore/shore.star", "signal/signal.star", "signal/signal.star", "chronicle/chronicle.star",
		"common/coast.star", "kits/station/kit.star", "kits/lookout/kit.star", "rules/house.star"} {
		body, err := os.ReadFile(filepath.Join(dir, f))
		require.NoError(t, err)
		y.files, y.was[f], y.now[f] = append(y.files, f), string(body), string(body)
	}
	return y
}

// edit changes a file.
func (y *typing) edit() (file string) {
	file = y.files[y.IntN(len(y.files))]
	if y.IntN(4) == 0 { // all but this one are right again
		for _, f := range y.files {
			if f != file {
				y.now[f] = y.was[f]
			}
		}
	}
	runes := []rune(y.now[file])
	if len(runes) == 0 || y.IntN(3) == 0 || file == "kasbah.toml" && y.now[file] != y.was[file] || len(runes) > 3*len(y.was[file]) { // it was wrong long enough
		y.now[file] = y.was[file]
		return file
	}
	at := y.IntN(len(runes))
	text := string(runes)
	i := len(string(runes[:at]))
	switch y.IntN(4) {
	case 0: // a word is taken out
		j := i
		for j < len(text) && (isKey(text[j])) {
			j++
		}
		text = text[:i] + text[max(j, min(i+1, len(text))):]
	case 1: // a line is taken out, or doubled
		from, to := strings.LastIndex(text[:i], "\n")+1, len(text)
		if n := strings.Index(text[i:], "\n"); n >= 0 {
			to = i + n + 1
		}
		if y.IntN(2) == 0 {
			text = text[:from] + text[to:]
		} else {
			text = text[:to] + text[from:to] + text[to:]
		}
	default:
		text = text[:i] + typed[y.IntN(len(typed))] + text[i:]
	}
	y.now[file] = strings.ToValidUTF8(text, "")
	return file
}

// TestTyping: whatever is typed, the diagnostics are those of `kasbah check` on the same texts.
func TestTyping(t *testing.T) {
	edits := 250
	if testing.Short() {
		edits = 50
	}
	if os.Getenv("THOROUGH") != "" {
		edits = 2000
	}
	dir, files := demo(t), demo(t)
	y := newTyping(t, dir, 24)
	p := newProject(dir, open)
	defer func() { require.NoError(t, p.close()) }()
	var heap runtime.MemStats
	wrong := 0
	var early uint64
	for i := range edits {
		file := y.edit()
		for f, text := range y.now {
			p.setText(f, []byte(text))
			require.NoError(t, os.WriteFile(filepath.Join(files, f), []byte(text), 0o644))
		}
		got := p.check(context.Background(), "trial")
		require.Len(t, got, 1)
		want := checked(t, files, "trial")
		if len(want) > 0 && strings.Contains(want[0], "no environment is called") { // the command line and the settings say it each their way
			require.Contains(t, said(got[0].problems)[0], "no environment is called")
			continue
		}
		require.Equal(t, want, said(got[0].problems), "after edit %d, of %s:\n%s", i, file, y.now[file])
		if slices.ContainsFunc(want, func(line string) bool { return strings.HasPrefix(line, "error") }) {
			wrong++
		}
		if i == edits/4 || i == edits-1 {
			runtime.GC()
			runtime.ReadMemStats(&heap)
			if early == 0 {
				early = heap.HeapAlloc
			}
		}
	}
	require.Greater(t, wrong, edits/5)
	require.Less(t, wrong, edits*9/10)
	require.Less(t, heap.HeapAlloc, early*2+16<<20, "it grows")
	t.Logf("%d edits, %d with problems; %d MB of heap after a quarter, %d at the end", edits, wrong, early>>20, heap.HeapAlloc>>20)
}

// TestOffered: every word that is offered at random places is accepted by a check of the text with the word
// in it: the check has no problem with the word itself.
func TestOffered(t *testing.T) {
	places := 60
	if testing.Short() {
		places = 10
	}
	if os.Getenv("THOROUGH") != "" {
		places = 500
	}
	dir := demo(t)
	ctx := context.Background()
	p := newProject(dir, open)
	defer func() { require.NoError(t, p.close()) }()
	random := rand.New(rand.NewPCG(7, 24))
	p.check(ctx, "trial")
	words := 0
	files := []string{"shore/shore.star", "signal/signal.star", "chronicle/chronicle.star", "kits/station/kit.star", "kits/lookout/kit.star",
		"common/coast.star", "rules/house.star", "kasbah.toml"}
	for n := 0; n < places; {
		file := files[random.IntN(len(files))]
		body, err := os.ReadFile(filepath.Join(dir, file))
		require.NoError(t, err)
		text := string(body)
		i := random.IntN(len(text))
		from, to := i, i // the word there is taken out
		for from > 0 && isKey(text[from-1]) && text[from-1] != '-' {
			from--
		}
		for to < len(text) && isKey(text[to]) && text[to] != '-' {
			to++
		}
		if from == to || strings.Contains(text[strings.LastIndex(text[:i], "\n")+1:from], "#") {
			continue
		}
		n++
		before := text[:from] + text[to:]
		p.setText(file, []byte(before))
		p.check(ctx, "trial")
		offers, word, f := offered(ctx, p, file, from)
		for _, o := range offers {
			if o.stops {
				continue // there is more to type
			}
			insert := o.insert
			if insert == "" {
				insert = o.label
			}
			now := before[:word.From] + insert + before[word.To:]
			p.setText(file, []byte(now))
			for _, one := range p.check(ctx, "trial")[0].problems {
				if strings.Contains(one.Message, "a ledger in") { // the keys of the store that was there are for the person to change
					continue
				}
				if one.Level == problem.Wrong && aboutWord(p.file(file), one, p, file, word.From, word.From+len(insert), strings.Trim(insert, "\" =")) {
					t.Errorf("%s, %q in place of %q in %q: %s", file, insert, text[from:to], line(f.Body, from), one)
				}
			}
			words++
		}
		p.setText(file, body)
		p.check(ctx, "trial")
	}
	require.Greater(t, words, places)
	t.Logf("%d words at %d places", words, places)
}

func line(body []byte, at int) string {
	text := string(body)
	from := strings.LastIndex(text[:at], "\n") + 1
	rest, _, _ := strings.Cut(text[from:], "\n")
	return rest
}

// aboutWord reports whether a problem is about a word at a place of a file, or about what it gives a value to.
func aboutWord(f *code.File, one *problem.Problem, p *project, file string, from, to int, word string) bool {
	if p.place(one.File) != file {
		return false
	}
	if file == estate.File {
		return strings.Contains(one.Message, "unknown key") || strings.Contains(one.Message, "no setting") || strings.Contains(one.Message, "no input")
	}
	at := f.Offset(one.Line, one.Column)
	if at >= from && at < to {
		return true
	}
	rest := string(f.Body[to:])
	value := to + len(rest) - len(strings.TrimLeft(rest, " ="))
	return at == value && strings.Contains(one.Message, strconv.Quote(word))
}

// TestAnyRequest: whatever is asked at whatever place of whatever text, there is an answer, and nothing fails
// inside.
func TestAnyRequest(t *testing.T) {
	rounds := 300
	if os.Getenv("THOROUGH") != "" {
		rounds = 5000
	}
	dir := demo(t)
	c := connect(t, dir, map[string]any{"env": "trial"})
	y := newTyping(t, dir, 3)
	for _, f := range y.files[1:] {
		c.open(f, "")
	}
	c.open("kasbah.toml", "")
	methods := []string{}
	for m := range handlers {
		if m != "initialize" && m != "shutdown" && m != "initialized" {
			methods = append(methods, m)
		}
	}
	slices.Sort(methods)
	for i := range rounds {
		file := y.edit()
		for f, text := range y.now {
			if text != y.was[f] || f == file {
				c.change(f, text)
			}
		}
		asked := y.files[y.IntN(len(y.files))]
		where := protocol.Position{Line: uint32(y.IntN(40)), Character: uint32(y.IntN(60))}
		if y.IntN(20) == 0 {
			where = protocol.Position{Line: 1 << 31, Character: 1<<32 - 1}
		}
		uri := c.uri(asked)
		if y.IntN(20) == 0 {
			uri = []string{"untitled:1", "file:///etc/passwd", "file:///%zz", "", "http://lantern.example/x.star", c.uri("shore"), c.uri("none/x.star")}[y.IntN(7)]
		}
		params := map[string]any{
			"textDocument": map[string]any{"uri": uri, "version": 7}, "position": where, "newName": []string{"x", "a b", "", "relay", "été"}[y.IntN(5)],
			"range": protocol.Range{Start: where, End: protocol.Position{Line: where.Line + uint32(y.IntN(3))}}, "query": "g",
			"context":        map[string]any{"includeDeclaration": true, "diagnostics": c.said(asked)},
			"options":        map[string]any{},
			"item":           map[string]any{"name": "x", "uri": uri, "selectionRange": protocol.Range{Start: where, End: where}},
			"contentChanges": []any{}, "changes": []any{map[string]any{"uri": uri, "type": 2}}, "settings": map[string]any{"env": "trial"},
		}
		m := methods[i%len(methods)]
		err := c.try(m, params, nil)
		var refusal *jsonrpc2.Error
		if err != nil {
			require.ErrorAs(t, err, &refusal, "%s at %v of %s", m, where, asked)
			require.NotEqual(t, int64(jsonrpc2.CodeInternalError), refusal.Code, "%s at %v of %s:\n%s\n%s", m, where, asked, refusal.Message, y.now[asked])
		}
	}
}

// said are the diagnostics of a file.
func (c *client) said(file string) []protocol.Diagnostic {
	c.mu.Lock()
	defer c.mu.Unlock()
	return append([]protocol.Diagnostic{}, c.diagnostics[c.uri(file)]...)
}

// pipe is a connection whose other end sends some bytes, and takes what it is sent as take says.
type pipe struct {
	io.Reader
	io.Writer
}

func (pipe) Close() error { return nil }

// blocked takes nothing.
type blocked struct{ until chan struct{} }

func (b blocked) Write(p []byte) (int, error) {
	<-b.until
	return 0, io.ErrClosedPipe
}

func framed(messages ...string) string {
	var b strings.Builder
	for _, m := range messages {
		fmt.Fprintf(&b, "Content-Length: %d\r\n\r\n%s", len(m), m)
	}
	return b.String()
}

// TestBadClients: a client that sends garbage, dies in the middle of a message, asks in the wrong order or
// never reads ends its own session and nothing else.
func TestBadClients(t *testing.T) {
	dir := demo(t)
	begin := `{"jsonrpc":"2.0","id":1,"method":"initialize","params":{"processId":null,"rootUri":"` + uriOf(dir) + `","capabilities":{}}}`
	ask := `{"jsonrpc":"2.0","id":2,"method":"textDocument/hover","params":{"textDocument":{"uri":"` + uriOf(dir+"/shore/shore.star") +
		`"},"position":{"line":5,"character":2}}}`
	serve := func(sent string, to io.Writer) error {
		done := make(chan error, 1)
		ctx, cancel := context.WithCancel(context.Background())
		defer cancel()
		go func() {
			done <- Serve(ctx, pipe{strings.NewReader(sent), to}, Options{Open: open, Wait: time.Millisecond})
		}()
		select {
		case err := <-done:
			return err
		case <-time.After(30 * time.Second):
			t.Fatalf("it does not end after %q", sent[:min(len(sent), 200)])
			return nil
		}
	}
	for _, sent := range []string{"", "x", "\r\n\r\n", "Content-Length: 5\r\n\r\n{", "Content-Length: -1\r\n\r\n", "Content-Length: 99999999999\r\n\r\n{}",
		strings.Repeat("A", 1<<20), framed("{}"), framed("[]"), framed("nonsense"), framed(`{"jsonrpc":"2.0","id":1}`), framed(ask),
		framed(`{"jsonrpc":"2.0","method":"exit"}`), framed(begin, begin, ask), framed(begin, `{"jsonrpc":"2.0","id":3,"method":"shutdown"}`, ask),
		framed(begin, `{"jsonrpc":"2.0","id":4,"method":"nothing/such"}`, `{"jsonrpc":"2.0","id":5,"method":"textDocument/hover","params":7}`,
			`{"jsonrpc":"2.0","id":6,"method":"textDocument/rename"}`, `{"jsonrpc":"2.0","id":"x","method":"workspace/symbol","params":{"query":5}}`),
		framed(begin, ask)[:len(framed(begin, ask))-20]} {
		_ = serve(sent, io.Discard) // how it ends is its own affair
	}
	// one that never reads, and then goes
	until := make(chan struct{})
	time.AfterFunc(300*time.Millisecond, func() { close(until) })
	_ = serve(framed(begin)+strings.Repeat(framed(ask), 2000), blocked{until})
	require.ErrorContains(t, serve(framed(begin), io.Discard), "without saying so")
	require.NoError(t, serve(framed(begin, `{"jsonrpc":"2.0","id":3,"method":"shutdown"}`, `{"jsonrpc":"2.0","method":"exit"}`), io.Discard))
}

// FuzzServe: no bytes end the program, and none make it wait for ever.
func FuzzServe(f *testing.F) {
	dir := f.TempDir()
	require.NoError(f, os.CopyFS(dir, os.DirFS("../demo/lantern-coast")))
	begin := `{"jsonrpc":"2.0","id":1,"method":"initialize","params":{"rootUri":"` + uriOf(dir) + `","capabilities":{}}}`
	f.Add(`{"jsonrpc":"2.0","id":2,"method":"textDocument/hover","params":{"textDocument":{"uri":"` + uriOf(dir+"/shore/shore.star") + `"},"position":{"line":5,"character":2}}}`)
	f.Add(`{"jsonrpc":"2.0","method":"textDocument/didOpen","params":{"textDocument":{"uri":"` + uriOf(dir+"/shore/shore.star") + `","text":"x = ((("}}}`)
	f.Fuzz(func(t *testing.T, message string) {
		failed := ""
		err := Serve(context.Background(), pipe{strings.NewReader(framed(begin, message, message)), io.Discard}, Options{Open: open,
			Log: func(line string) {
				if strings.Contains(line, " failed: ") {
					failed = line
				}
			}})
		require.Error(t, err) // it left without saying so
		require.Empty(t, failed)
	})
}

// FuzzPlace: any text can be read, and any place in it looked at.
func FuzzPlace(f *testing.F) {
	f.Add("x = medina.machine(\"a\", size = \"tiny\"", 20)
	f.Add("def f(x):\n    return [y for y in x if '''a\n''' in {1: 2}]\n", 30)
	f.Fuzz(func(t *testing.T, text string, at int) {
		if len(text) > 5000 || at < 0 || at > len(text) {
			t.Skip()
		}
		file := code.Read("a.star", []byte(text))
		file.Place(at)
		file.Names(at)
		file.Ident(at)
		file.Function(at)
		file.Exports()
		for _, c := range file.Calls() {
			file.SpanOf(c)
			file.AddArgument(c, "x = 1")
		}
		for _, l := range file.Literals() {
			s := file.Inside(l)
			require.LessOrEqual(t, s.From, s.To)
			file.Text(s)
		}
		require.Equal(t, at, offset(file, position(file, at))+skew(text, at))
	})
}

// skew is how far an offset is inside a character.
func skew(text string, at int) int {
	f := code.Lines("x", []byte(text))
	return at - offset(f, position(f, at))
}

// TestSettings: the environment that a client chose at the start stays when it sends settings without one,
// as some do at once, and another one counts from then on.
func TestSettings(t *testing.T) {
	dir := demo(t)
	c := connect(t, dir, map[string]any{"env": "trial"})
	text := c.open("signal/signal.star", "")
	c.tell("workspace/didChangeConfiguration", map[string]any{"settings": map[string]any{}})
	c.change("signal/signal.star", text+"\nx = nothing_such\n")
	list := c.until("signal/signal.star", says("nothing_such"))
	require.NotContains(t, list[0].Message, "(in ")
	c.tell("workspace/didChangeConfiguration", map[string]any{"settings": map[string]any{"kasbah": map[string]any{"env": ""}}})
	c.until("signal/signal.star", says("(in live, trial)"))
	c.tell("workspace/didChangeConfiguration", map[string]any{"settings": map[string]any{"kasbah": map[string]any{"env": "nowhere"}}})
	c.until("kasbah.toml", says(`no environment is called "nowhere"`))
}
