// Package editor serves an editor by the language server protocol, version 3.17, over a connection. It
// works on unsaved text, answers offline, and writes nothing: edits are the editor's to apply.
package editor

import (
	"context"
	"encoding/json"
	"errors"
	"fmt"
	"io"
	"runtime/debug"
	"sync"
	"time"

	"github.com/sourcegraph/jsonrpc2"
	protocol "github.com/tliron/glsp/protocol_3_16"

	"kasbah/session"
	"kasbah/transport"
)

// Options is what a server needs from outside.
type Options struct {
	Dir     string // where estates are looked for, when the client names no folder
	Env     string // the environment; "" for the client's choice
	Version string // of the program
	// Open opens an estate in an environment with texts in place of files, by their path below its folder.
	Open func(ctx context.Context, dir, env string, texts map[string][]byte) (*session.Session, error)
	Log  func(line string)
	Wait time.Duration // after the last key, before a text is checked; 0 for 150 ms
}

const defaultWait = 150 * time.Millisecond

// Serve answers requests until the client leaves or the context ends. It is an error when the client
// leaves without saying so.
func Serve(ctx context.Context, stream io.ReadWriteCloser, o Options) error {
	if o.Wait == 0 {
		o.Wait = defaultWait
	}
	ctx, cancel := context.WithCancel(ctx)
	defer cancel()
	s := &server{o: o, projects: map[string]*project{}, published: map[string]bool{}, poked: make(chan struct{}, 1)}
	s.conn = jsonrpc2.NewConn(ctx, jsonrpc2.NewBufferedStream(stream, transport.Frames{}),
		jsonrpc2.HandlerWithError(s.handle), jsonrpc2.SetLogger(logger{o.Log}))
	var background sync.WaitGroup
	background.Go(func() { s.checkWhenPoked(ctx) })
	select {
	case <-ctx.Done():
	case <-s.conn.DisconnectNotify():
	}
	cancel()
	err := s.conn.Close()
	if errors.Is(err, jsonrpc2.ErrClosed) {
		err = nil
	}
	background.Wait()
	for _, p := range s.projects {
		err = errors.Join(err, p.close())
	}
	if err == nil && s.begun && !s.ended {
		return errors.New("the editor left without saying so")
	}
	return err
}

// server is one connection.
type server struct {
	o    Options
	conn *jsonrpc2.Conn

	begun, ended bool // by initialize and shutdown

	mu        sync.Mutex
	env       string // that the client chose
	roots     []string
	projects  map[string]*project // by the estate's folder
	published map[string]bool     // files that have diagnostics, by URI
	snippets  bool                // the client can show them
	hints     bool
	lenses    bool

	poked chan struct{}
}

type logger struct{ log func(string) }

func (l logger) Printf(format string, args ...any) {
	if l.log != nil {
		l.log(fmt.Sprintf(format, args...))
	}
}

// handler answers one method.
type handler func(s *server, ctx context.Context, params json.RawMessage) (any, error)

// on reads the parameters of a method.
func on[P any](answer func(s *server, ctx context.Context, p *P) (any, error)) handler {
	return func(s *server, ctx context.Context, params json.RawMessage) (any, error) {
		p := new(P)
		if len(params) > 0 {
			if err := json.Unmarshal(params, p); err != nil {
				return nil, &jsonrpc2.Error{Code: jsonrpc2.CodeInvalidParams, Message: err.Error()}
			}
		}
		return answer(s, ctx, p)
	}
}

var handlers map[string]handler

func init() {
	handlers = map[string]handler{
		"initialize":                        on((*server).initialize),
		"initialized":                       on((*server).initialized),
		"shutdown":                          on((*server).shutdown),
		"textDocument/didOpen":              on((*server).didOpen),
		"textDocument/didChange":            on((*server).didChange),
		"textDocument/didClose":             on((*server).didClose),
		"textDocument/didSave":              on((*server).didSave),
		"workspace/didChangeWatchedFiles":   on((*server).didChangeWatchedFiles),
		"workspace/didChangeConfiguration":  on((*server).didChangeConfiguration),
		"textDocument/completion":           on((*server).completion),
		"textDocument/hover":                on((*server).hover),
		"textDocument/signatureHelp":        on((*server).signatureHelp),
		"textDocument/definition":           on((*server).definition),
		"textDocument/references":           on((*server).references),
		"textDocument/documentHighlight":    on((*server).documentHighlight),
		"textDocument/prepareRename":        on((*server).prepareRename),
		"textDocument/rename":               on((*server).rename),
		"textDocument/documentSymbol":       on((*server).documentSymbol),
		"workspace/symbol":                  on((*server).workspaceSymbol),
		"textDocument/codeAction":           on((*server).codeAction),
		"textDocument/codeLens":             on((*server).codeLens),
		"textDocument/inlayHint":            on((*server).inlayHint),
		"textDocument/formatting":           on((*server).formatting),
		"textDocument/semanticTokens/full":  on((*server).semanticTokens),
		"textDocument/foldingRange":         on((*server).foldingRange),
		"textDocument/documentLink":         on((*server).documentLink),
		"textDocument/prepareCallHierarchy": on((*server).prepareCallHierarchy),
		"callHierarchy/incomingCalls":       on((*server).incomingCalls),
		"callHierarchy/outgoingCalls":       on((*server).outgoingCalls),
	}
}

// Codes of the protocol that the library has no name for.
const (
	codeNotBegun = -32002
	codeEnded    = jsonrpc2.CodeInvalidRequest
)

// handle answers a request, one after the other, so that each sees the text as it is then.
func (s *server) handle(ctx context.Context, conn *jsonrpc2.Conn, r *jsonrpc2.Request) (result any, err error) {
	defer func() {
		if p := recover(); p != nil { // a mistake in here must not take the text of others with it
			logger{s.o.Log}.Printf("%s failed: %v\n%s", r.Method, p, debug.Stack())
			result, err = nil, &jsonrpc2.Error{Code: jsonrpc2.CodeInternalError, Message: fmt.Sprintf("%s failed: %v",
				r.Method, p)}
		}
	}()
	h := handlers[r.Method]
	switch {
	case r.Method == "exit":
		return nil, conn.Close()
	case h == nil && r.Notif:
		return nil, nil
	case h == nil:
		return nil, &jsonrpc2.Error{Code: jsonrpc2.CodeMethodNotFound, Message: r.Method + " is not served"}
	case !s.begun && r.Method != "initialize":
		return nil, &jsonrpc2.Error{Code: codeNotBegun, Message: r.Method + " came before initialize"}
	case s.begun && r.Method == "initialize":
		return nil, &jsonrpc2.Error{Code: jsonrpc2.CodeInvalidRequest, Message: "initialize came twice"}
	case s.ended:
		return nil, &jsonrpc2.Error{Code: codeEnded, Message: r.Method + " came after shutdown"}
	}
	var params json.RawMessage
	if r.Params != nil {
		params = *r.Params
	}
	return h(s, ctx, params)
}

// settings are what a client can choose: `{"kasbah": {"env": "trial"}}`, or without the outer name. What is
// not among them stays as it was.
type settings struct {
	Env        *string `json:"env"`
	InlayHints *bool   `json:"inlayHints"`
	CodeLens   *bool   `json:"codeLens"`
}

func (s *server) choose(from any) {
	body, err := json.Marshal(from)
	if err != nil {
		return
	}
	var outer struct {
		Kasbah *settings `json:"kasbah"`
		settings
	}
	if json.Unmarshal(body, &outer) != nil {
		return // settings of another form are not for this server
	}
	chosen := outer.settings
	if outer.Kasbah != nil {
		chosen = *outer.Kasbah
	}
	s.mu.Lock()
	defer s.mu.Unlock()
	if chosen.Env != nil {
		s.env = *chosen.Env
	}
	if chosen.InlayHints != nil {
		s.hints = *chosen.InlayHints
	}
	if chosen.CodeLens != nil {
		s.lenses = *chosen.CodeLens
	}
}

// capabilities are those of the protocol's version 3.16, and what 3.17 added.
type capabilities struct {
	protocol.ServerCapabilities
	InlayHintProvider bool `json:"inlayHintProvider"`
}

type initializeResult struct {
	Capabilities capabilities                         `json:"capabilities"`
	ServerInfo   *protocol.InitializeResultServerInfo `json:"serverInfo,omitempty"`
}

func (s *server) initialize(_ context.Context, p *protocol.InitializeParams) (any, error) {
	s.begun, s.hints, s.lenses = true, true, true
	if p.InitializationOptions != nil {
		s.choose(p.InitializationOptions)
	}
	for _, f := range p.WorkspaceFolders {
		s.addRoot(f.URI)
	}
	if len(s.roots) == 0 && p.RootURI != nil {
		s.addRoot(*p.RootURI)
	}
	if len(s.roots) == 0 && p.RootPath != nil && *p.RootPath != "" {
		s.roots = append(s.roots, *p.RootPath)
	}
	if len(s.roots) == 0 && s.o.Dir != "" {
		s.roots = append(s.roots, s.o.Dir)
	}
	if t := p.Capabilities.TextDocument; t != nil && t.Completion != nil && t.Completion.CompletionItem != nil &&
		t.Completion.CompletionItem.SnippetSupport != nil {
		s.snippets = *t.Completion.CompletionItem.SnippetSupport
	}
	yes, sync := true, protocol.TextDocumentSyncKindIncremental
	return initializeResult{
		Capabilities: capabilities{
			ServerCapabilities: protocol.ServerCapabilities{
				TextDocumentSync: protocol.TextDocumentSyncOptions{OpenClose: &yes, Change: &sync, Save: true},
				CompletionProvider: &protocol.CompletionOptions{TriggerCharacters: []string{".", "\"", "/", ":", "(", ",", "=",
					" "}},
				HoverProvider:              true,
				SignatureHelpProvider:      &protocol.SignatureHelpOptions{TriggerCharacters: []string{"(", ","}},
				DefinitionProvider:         true,
				ReferencesProvider:         true,
				DocumentHighlightProvider:  true,
				RenameProvider:             protocol.RenameOptions{PrepareProvider: &yes},
				DocumentSymbolProvider:     true,
				WorkspaceSymbolProvider:    true,
				CodeActionProvider:         protocol.CodeActionOptions{CodeActionKinds: []string{quickFix, refactor}},
				CodeLensProvider:           &protocol.CodeLensOptions{},
				DocumentFormattingProvider: true,
				SemanticTokensProvider:     protocol.SemanticTokensOptions{Legend: legend, Full: true},
				FoldingRangeProvider:       true,
				DocumentLinkProvider:       &protocol.DocumentLinkOptions{},
				CallHierarchyProvider:      true,
			},
			InlayHintProvider: true,
		},
		ServerInfo: &protocol.InitializeResultServerInfo{Name: "kasbah", Version: &s.o.Version},
	}, nil
}

// initialized opens the estates of the client's folders, so that their mistakes show before a file is
// opened, and asks to be told when files change on the disk.
func (s *server) initialized(ctx context.Context, _ *protocol.InitializedParams) (any, error) {
	for _, dir := range s.roots {
		s.projectOf(dir)
	}
	s.poke()
	watch := protocol.RegistrationParams{Registrations: []protocol.Registration{{ID: "files",
		Method: "workspace/didChangeWatchedFiles", RegisterOptions: protocol.DidChangeWatchedFilesRegistrationOptions{
			Watchers: []protocol.FileSystemWatcher{{GlobPattern: "**/*.{star,toml,json,yaml}"}}}}}}
	go func() { // the answer comes while others are served
		if err := s.conn.Call(ctx, "client/registerCapability", watch, nil); err != nil {
			logger{s.o.Log}.Printf("the client watches no files: %v", err)
		}
	}()
	return nil, nil
}

func (s *server) shutdown(context.Context, *struct{}) (any, error) {
	s.ended = true
	return nil, nil
}

func (s *server) didChangeConfiguration(_ context.Context, p *protocol.DidChangeConfigurationParams) (any, error) {
	s.choose(p.Settings)
	s.poke()
	return nil, nil
}

func (s *server) didChangeWatchedFiles(_ context.Context, p *protocol.DidChangeWatchedFilesParams) (any, error) {
	for _, c := range p.Changes {
		if d := s.find(c.URI); d != nil {
			d.project.fileMoved(d.path)
		}
	}
	s.poke()
	return nil, nil
}

// poke asks for a check once nothing has been typed for a while.
func (s *server) poke() {
	select {
	case s.poked <- struct{}{}:
	default:
	}
}

// checkWhenPoked checks all estates when something has changed and the last key is a while ago. A check
// that goes on when the next key comes is ended.
func (s *server) checkWhenPoked(ctx context.Context) {
	var cancel context.CancelFunc = func() {}
	defer func() { cancel() }()
	done := make(chan struct{}, 1)
	running, again := false, false
	timer := time.NewTimer(time.Hour)
	timer.Stop()
	for {
		select {
		case <-ctx.Done():
			cancel()
			if running {
				<-done
			}
			return
		case <-s.poked:
			cancel()
			timer.Reset(s.o.Wait)
		case <-timer.C:
			if running {
				again = true
				continue
			}
			running = true
			var one context.Context
			one, cancel = context.WithCancel(ctx)
			go func() {
				s.check(one)
				done <- struct{}{}
			}()
		case <-done:
			if running = false; again {
				again = false
				timer.Reset(0)
			}
		}
	}
}
