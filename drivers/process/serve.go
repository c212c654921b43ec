package process

import (
	"context"
	"encoding/json"
	"errors"
	"io"
	"slices"
	"strings"
	"sync"

	"github.com/sourcegraph/jsonrpc2"

	"kasbah/core/driver"
	"kasbah/core/value"
	"kasbah/transport"
)

// Schemas says what a driver offers, in the form that the wire knows: JSON
// Schemas with x-kasbah, by type.
type Schemas struct {
	Version string
	Types   json.RawMessage
}

// page is how many things one answer lists.
const page = 500

// Serve speaks for a driver over two streams until the first one ends, as the
// program of a driver of kind process does. open makes the driver once its
// settings are known.
func Serve(ctx context.Context, name string, s Schemas, open func(settings value.Map, who string) (driver.Driver,
	error), in io.Reader, out io.WriteCloser) error {
	ctx, cancel := context.WithCancel(ctx)
	defer cancel()
	sv := &server{name: name, schemas: s, open: open, calls: map[jsonrpc2.ID]context.CancelFunc{}}
	conn := jsonrpc2.NewConn(ctx, jsonrpc2.NewBufferedStream(both{in, out}, transport.Frames{}), sv, jsonrpc2.SetLogger(quiet{}))
	<-conn.DisconnectNotify()
	cancel()
	sv.working.Wait()
	if sv.d != nil {
		return sv.d.Close()
	}
	return nil
}

type both struct {
	io.Reader
	io.WriteCloser
}

// server answers the calls of one connection, each in a goroutine of its own.
type server struct {
	name    string
	schemas Schemas
	open    func(value.Map, string) (driver.Driver, error)
	d       driver.Driver
	working sync.WaitGroup

	mu    sync.Mutex
	calls map[jsonrpc2.ID]context.CancelFunc
}

// Handle answers one message.
func (s *server) Handle(ctx context.Context, conn *jsonrpc2.Conn, r *jsonrpc2.Request) {
	if r.Method == "cancel" {
		var p cancelParams
		if r.Params != nil && json.Unmarshal(*r.Params, &p) == nil {
			s.mu.Lock()
			if cancel := s.calls[jsonrpc2.ID{Num: p.ID}]; cancel != nil {
				cancel()
			}
			s.mu.Unlock()
		}
		return
	}
	if r.Notif {
		return
	}
	answer := func(result any, err error) {
		if err != nil {
			_ = conn.ReplyWithError(ctx, r.ID, toWire(err)) // nobody listens any more
			return
		}
		_ = conn.Reply(ctx, r.ID, result)
	}
	if r.Method == "hello" {
		answer(s.hello(r))
		return
	}
	if s.d == nil {
		answer(nil, errors.New("the first message was not hello"))
		return
	}
	ctx, cancel := context.WithCancel(ctx)
	s.mu.Lock()
	s.calls[r.ID] = cancel
	s.mu.Unlock()
	s.working.Go(func() {
		defer func() {
			s.mu.Lock()
			delete(s.calls, r.ID)
			s.mu.Unlock()
			cancel()
		}()
		answer(s.answer(ctx, r))
	})
}

func (s *server) hello(r *jsonrpc2.Request) (any, error) {
	var p helloParams
	if err := params(r, &p); err != nil {
		return nil, err
	}
	speaks := false
	for _, one := range p.Protocols {
		speaks = speaks || one == Protocol
	}
	if !speaks {
		return nil, driver.Refuse("this program speaks %s and nothing else", Protocol)
	}
	settings, err := attributes(p.Settings)
	if err != nil {
		return nil, err
	}
	if s.d, err = s.open(settings, p.Who); err != nil {
		return nil, err
	}
	out := helloResult{Protocol: Protocol, Name: s.name, Offers: []string{"find"}}
	if _, ok := s.d.(driver.Vetter); ok {
		out.Offers = append(out.Offers, "vet")
	}
	if _, ok := s.d.(driver.Feed); ok {
		out.Offers = append(out.Offers, "changes")
	}
	if _, ok := s.d.(driver.Locator); ok {
		out.Offers = append(out.Offers, "locate")
	}
	return out, nil
}

func params(r *jsonrpc2.Request, into any) error {
	if r.Params == nil {
		return nil
	}
	return json.Unmarshal(*r.Params, into)
}

func wireThing(l driver.Live, err error) (any, error) {
	if err != nil {
		return nil, err
	}
	return thing{ID: l.ID, Tag: l.Tag, Attributes: object(l.Attributes)}, nil
}

func (s *server) answer(ctx context.Context, r *jsonrpc2.Request) (any, error) {
	var p thingParams
	if err := params(r, &p); err != nil {
		return nil, err
	}
	in := map[string]value.Map{}
	for name, raw := range map[string]json.RawMessage{"inputs": p.Inputs, "from": p.From, "to": p.To, "all": p.All,
		"match": p.Match} {
		m, err := attributes(raw)
		if err != nil {
			return nil, err
		}
		in[name] = m
	}
	switch r.Method {
	case "describe":
		return catalogResult(s.schemas), nil
	case "vet":
		v, ok := s.d.(driver.Vetter)
		if !ok {
			break
		}
		out := problemsResult{Problems: []wireProblem{}}
		for _, one := range v.Vet(ctx, p.Type, in["inputs"]) {
			out.Problems = append(out.Problems, wireProblem(one))
		}
		return out, nil
	case "read":
		return wireThing(s.d.Read(ctx, p.Type, p.ID))
	case "list":
		return s.list(ctx, p)
	case "find":
		found, err := s.d.Find(ctx, p.Type, in["match"])
		out := thingsResult{Things: []thing{}}
		for _, l := range found {
			out.Things = append(out.Things, thing{l.ID, l.Tag, object(l.Attributes)})
		}
		return out, err
	case "create":
		return wireThing(s.d.Create(ctx, p.Type, in["inputs"], p.Key))
	case "update":
		return wireThing(s.d.Update(ctx, p.Type, p.ID, driver.Change{From: in["from"], To: in["to"], All: in["all"]},
			p.Tag, p.Key))
	case "delete":
		return nil, s.d.Delete(ctx, p.Type, p.ID, p.Tag, p.Key)
	case "copy":
		if c, ok := s.d.(driver.Copier); ok {
			return wireThing(c.Copy(ctx, p.Type, p.ID, p.Key))
		}
	case "locate":
		if l, ok := s.d.(driver.Locator); ok {
			return wireThing(l.Locate(ctx, p.Type, p.Key))
		}
	case "changes":
		if f, ok := s.d.(driver.Feed); ok {
			which := driver.Events{Type: p.Type, ID: p.ID}
			if p.Since != nil {
				which.Since = *p.Since
			}
			out := eventsResult{Events: []wireEvent{}}
			for e, err := range f.Changes(ctx, which) {
				if err != nil {
					return nil, err
				}
				out.Events = append(out.Events, wireEvent(e))
			}
			slices.Reverse(out.Events) // a program tells them oldest first
			return out, nil
		}
	}
	return nil, &jsonrpc2.Error{Code: jsonrpc2.CodeMethodNotFound, Message: "there is no " + r.Method}
}

// list answers with the things after an id, in the order of their ids: what is
// there all the while is listed once, whatever comes and goes meanwhile.
func (s *server) list(ctx context.Context, p thingParams) (any, error) {
	var all []thing
	for l, err := range s.d.List(ctx, p.Type) {
		if err != nil {
			return nil, err
		}
		if l.ID > p.After {
			all = append(all, thing{l.ID, l.Tag, object(l.Attributes)})
		}
	}
	return cut(all), nil
}

// cut makes a page of the first things.
func cut(all []thing) thingsResult {
	slices.SortFunc(all, func(a, b thing) int { return strings.Compare(a.ID, b.ID) })
	out := thingsResult{Things: all}
	if len(all) > page {
		out.Things = all[:page]
		out.Next = all[page-1].ID
	}
	if out.Things == nil {
		out.Things = []thing{}
	}
	return out
}
