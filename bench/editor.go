package main

import (
	"context"
	"encoding/json"
	"fmt"
	"io"
	"os"
	"os/exec"
	"path/filepath"
	"slices"
	"strings"
	"time"

	"github.com/sourcegraph/jsonrpc2"
	protocol "github.com/tliron/glsp/protocol_3_16"

	"kasbah/transport"
)

// typedIn is how many resources the estate has in which a key is pressed.
const typedIn = 10_000

// editing is what an editor waits for after a key: the language server's work, without the pause that it
// makes first, against a check of the same estate.
func (b *bench) editing() ([]row, error) {
	dir, err := b.write("editor", typedIn)
	if err != nil {
		return nil, err
	}
	check, err := repeated(b.times, func() (ran, error) { return b.program(dir, b.kasbah, "check", "-quiet") })
	if err != nil {
		return nil, err
	}
	e, err := b.edit(dir)
	if err != nil {
		return nil, err
	}
	defer e.end()
	file := filepath.Join(dir, wardName(3), "shore.star")
	body, err := os.ReadFile(file)
	if err != nil {
		return nil, err
	}
	uri := "file://" + file
	text := string(body)
	if err := e.conn.Notify(context.Background(), "textDocument/didOpen", protocol.DidOpenTextDocumentParams{
		TextDocument: protocol.TextDocumentItem{URI: uri, LanguageID: "starlark", Version: 1, Text: text}}); err != nil {
		return nil, err
	}
	var keys, words []float64
	for i := range 4 * b.times {
		// valid and invalid in turn: a range that is a number shows at the end of the ward's evaluation
		now := text + fmt.Sprintf("medina.network(\"extra\", range = %q)\n", fmt.Sprintf("10.%d.0.0/16", i))
		if i%2 == 0 {
			now = text + fmt.Sprintf("medina.network(\"extra\", range = %d)\n", i)
		}
		took, err := e.change(uri, now)
		if err != nil {
			return nil, err
		}
		keys = append(keys, took-pause.Seconds())
		began := time.Now()
		var list protocol.CompletionList
		at := protocol.Position{Line: uint32(strings.Count(now, "\n")), Character: 0}
		if err := e.conn.Call(context.Background(), "textDocument/completion",
			protocol.CompletionParams{TextDocumentPositionParams: protocol.
				TextDocumentPositionParams{TextDocument: protocol.TextDocumentIdentifier{URI: uri},
				Position: at}}, &list); err != nil {
			return nil, err
		}
		if len(list.Items) == 0 {
			return nil, fmt.Errorf("nothing is offered")
		}
		words = append(words, time.Since(began).Seconds())
	}
	slices.Sort(keys)
	slices.Sort(words)
	peak, err := e.peak()
	if err != nil {
		return nil, err
	}
	word := func() (ran, error) {
		return b.program(dir, b.kasbah, "completion", "bash", "words", "kasbah why "+wardName(3)+":medina.re")
	}
	bare, err := repeated(b.times, word)
	if err != nil {
		return nil, err
	}
	if _, err := b.program(dir, b.kasbah, "propose", "-offline", "-quiet"); err != nil {
		return nil, err
	}
	kept, err := repeated(b.times, word)
	return []row{
		{work: fmt.Sprintf("editor: a key press in an estate of %d resources, until its diagnostics", typedIn),
			against: "`kasbah check` of the same " +
				"estate", took: keys[len(keys)/2], floor: check.seconds, bar: "0.2x, 100 ms"},
		{work: "the slowest of them", took: keys[len(keys)-1]},
		{work: "completion at the start of a line", took: words[len(words)/2], bar: "30 ms"},
		{work: "the server's peak of memory", took: peak, unit: "MB", bar: "300 MB"},
		{work: "shell: addresses finished after a proposal", took: kept.seconds, bar: "30 ms"},
		{work: "without one", took: bare.seconds, bar: "100 ms"},
	}, err
}

// pause is how long the server waits for the next key.
const pause = 150 * time.Millisecond

// editorRun is a language server and its client.
type editorRun struct {
	cmd       *exec.Cmd
	conn      *jsonrpc2.Conn
	published chan struct{}
}

type pipes struct {
	io.Reader
	io.WriteCloser
}

func (b *bench) edit(dir string) (*editorRun, error) {
	e := &editorRun{cmd: exec.CommandContext(context.Background(), b.kasbah, "lsp"), published: make(chan struct{}, 100)}
	e.cmd.Dir = dir
	e.cmd.Env = append(os.Environ(), "KASBAH_WHO=keeper-1", "XDG_CACHE_HOME="+filepath.Join(b.dir, "cache"))
	in, err := e.cmd.StdinPipe()
	if err != nil {
		return nil, err
	}
	out, err := e.cmd.StdoutPipe()
	if err != nil {
		return nil, err
	}
	if err := e.cmd.Start(); err != nil {
		return nil, err
	}
	e.conn = jsonrpc2.NewConn(context.Background(), jsonrpc2.NewBufferedStream(pipes{out, in}, transport.Frames{}),
		jsonrpc2.HandlerWithError(func(_ context.Context, _ *jsonrpc2.Conn, r *jsonrpc2.Request) (any, error) {
			if r.Method == "textDocument/publishDiagnostics" {
				e.published <- struct{}{}
			}
			return nil, nil
		}))
	params := json.RawMessage(fmt.Sprintf(`{"processId": null, "rootUri": "file://%s", "capabilities": {}}`, dir))
	if err := e.conn.Call(context.Background(), "initialize", params, nil); err != nil {
		return nil, err
	}
	return e, e.conn.Notify(context.Background(), "initialized", struct{}{})
}

// change changes a text and waits until its diagnostics come.
func (e *editorRun) change(uri, text string) (seconds float64, err error) {
	time.Sleep(2 * pause) // what was typed before is done with
	for len(e.published) > 0 {
		<-e.published
	}
	began := time.Now()
	if err := e.conn.Notify(context.Background(), "textDocument/didChange", map[string]any{
		"textDocument":   map[string]any{"uri": uri, "version": began.UnixNano() / 1000 % 1_000_000},
		"contentChanges": []any{map[string]any{"text": text}}}); err != nil {
		return 0, err
	}
	select {
	case <-e.published:
		return time.Since(began).Seconds(), nil
	case <-time.After(time.Minute):
		return 0, fmt.Errorf("no diagnostics came")
	}
}

// peak is the most memory that the server took, in megabytes.
func (e *editorRun) peak() (float64, error) {
	body, err := os.ReadFile(fmt.Sprintf("/proc/%d/status", e.cmd.Process.Pid))
	if err != nil {
		return 0, err
	}
	var kilobytes float64
	_, after, _ := strings.Cut(string(body), "VmHWM:")
	if _, err := fmt.Sscan(after, &kilobytes); err != nil {
		return 0, err
	}
	return kilobytes / 1024, nil
}

func (e *editorRun) end() {
	_ = e.conn.Close()
	_ = e.cmd.Process.Signal(os.Interrupt)
	_ = e.cmd.Wait() // how it ends is of no interest here
}
