package etcd

import (
	"bytes"
	"context"
	"encoding/json"
	"errors"
	"fmt"
	"io"
	"net"
	"net/http"
	"net/url"
	"strings"
	"sync"
	"time"

	"kasbah/transport"
)

// client speaks etcd's JSON API, the gateway to its gRPC services: bytes are
// base64 there and 64-bit numbers texts, which encoding/json does by itself.
type client struct {
	http *http.Client
	user string
	pass string

	mu        sync.Mutex
	endpoints []string // the one in use first
	token     string
}

// answerTime bounds one request.
const answerTime = 15 * time.Second

func newClient(s Settings) (*client, error) {
	if len(s.Endpoints) == 0 {
		return nil, errors.New("it needs endpoints, such as endpoints = [\"https://127.0.0.1:2379\"]")
	}
	c := &client{user: s.User, pass: s.Password}
	for _, e := range s.Endpoints {
		u, err := url.Parse(e)
		if err != nil || u.Scheme != "http" && u.Scheme != "https" || u.Host == "" || u.User != nil {
			return nil, fmt.Errorf("an endpoint is a URL such as https://127.0.0.1:2379, and this one is not")
		}
		c.endpoints = append(c.endpoints, strings.TrimSuffix(e, "/"))
	}
	t, err := transport.New(transport.Options{CA: s.CA, Cert: s.Cert, Key: s.Key})
	if err != nil {
		return nil, err
	}
	c.http = &http.Client{Transport: t}
	return c, nil
}

type kv struct {
	Key   []byte `json:"key"`
	Value []byte `json:"value"`
}

type compare struct {
	Key            []byte `json:"key"`
	Target         string `json:"target"`
	Result         string `json:"result"`
	CreateRevision string `json:"create_revision"`
}

type rangeRequest struct {
	Key      []byte `json:"key"`
	RangeEnd []byte `json:"range_end,omitempty"`
	Limit    int64  `json:"limit,omitempty,string"`
	KeysOnly bool   `json:"keys_only,omitempty"`
}

type rangeReply struct {
	Kvs  []kv `json:"kvs"`
	More bool `json:"more"`
}

func (c *client) get(ctx context.Context, key string) (*kv, error) {
	var r rangeReply
	if err := c.call(ctx, "/v3/kv/range", rangeRequest{Key: []byte(key)}, &r); err != nil || len(r.Kvs) == 0 {
		return nil, err
	}
	return &r.Kvs[0], nil
}

// page is how many keys are read at once.
const page = 1000

func (c *client) keys(ctx context.Context, from, to string) (keys []string, more bool, err error) {
	if from >= to {
		return nil, false, nil
	}
	var r rangeReply
	if err := c.call(ctx, "/v3/kv/range", rangeRequest{Key: []byte(from), RangeEnd: []byte(to), Limit: page, KeysOnly: true}, &r); err != nil {
		return nil, false, err
	}
	for _, kv := range r.Kvs {
		keys = append(keys, string(kv.Key))
	}
	return keys, r.More, nil
}

func (c *client) put(ctx context.Context, key string, v []byte) error {
	return c.call(ctx, "/v3/kv/put", kv{Key: []byte(key), Value: v}, nil)
}

// putIf writes a value if a comparison of its key holds.
func (c *client) putIf(ctx context.Context, if_ compare, v []byte) (bool, error) {
	type request struct {
		Put kv `json:"request_put"`
	}
	var r struct {
		Succeeded bool `json:"succeeded"`
	}
	err := c.call(ctx, "/v3/kv/txn", struct {
		Compare []compare `json:"compare"`
		Success []request `json:"success"`
	}{[]compare{if_}, []request{{kv{Key: if_.Key, Value: v}}}}, &r)
	return r.Succeeded, err
}

// remove deletes a key, or those from it to another one.
func (c *client) remove(ctx context.Context, key, to string) error {
	return c.call(ctx, "/v3/kv/deleterange", rangeRequest{Key: []byte(key), RangeEnd: []byte(to)}, nil)
}

// call makes one request. A server that cannot be reached at all is left for
// the next one; any other failure leaves the outcome open and is returned.
func (c *client) call(ctx context.Context, path string, in, out any) error {
	ctx, cancel := context.WithTimeout(ctx, answerTime)
	defer cancel()
	body, err := json.Marshal(in)
	if err != nil {
		return err
	}
	again := false // with a new token
	for tries := 0; ; {
		r, err := c.post(ctx, path, body)
		var op *net.OpError
		if tries++; errors.As(err, &op) && op.Op == "dial" && tries < len(c.endpoints) {
			continue // post has put another server first
		}
		if err != nil {
			return err
		}
		reply, err := io.ReadAll(r.Body)
		r.Body.Close()
		if err != nil {
			return err
		}
		if r.StatusCode == http.StatusOK {
			if out == nil {
				return nil
			}
			return json.Unmarshal(reply, out)
		}
		err = refusal(r.StatusCode, reply)
		if c.user != "" && !again && (r.StatusCode == http.StatusUnauthorized || strings.Contains(err.Error(), "invalid auth token")) {
			again = true
			c.mu.Lock()
			c.token = ""
			c.mu.Unlock()
			continue // it was refused, so it had no effect
		}
		return err
	}
}

func refusal(status int, reply []byte) error {
	var no struct {
		Error   string `json:"error"`
		Message string `json:"message"`
	}
	if json.Unmarshal(reply, &no) == nil && no.Error+no.Message != "" {
		if no.Message == "" {
			no.Message = no.Error
		}
		return errors.New(no.Message)
	}
	return fmt.Errorf("it answers %s", http.StatusText(status))
}

// post sends a request to the server in use; when that fails, another one is
// used from then on.
func (c *client) post(ctx context.Context, path string, body []byte) (*http.Response, error) {
	token, err := c.login(ctx, path)
	if err != nil {
		return nil, err
	}
	c.mu.Lock()
	base := c.endpoints[0]
	c.mu.Unlock()
	req, err := http.NewRequestWithContext(ctx, http.MethodPost, base+path, bytes.NewReader(body))
	if err != nil {
		return nil, err
	}
	req.GetBody = nil // nothing is sent twice behind our back
	req.Header.Set("Content-Type", "application/json")
	if token != "" {
		req.Header.Set("Authorization", token)
	}
	r, err := c.http.Do(req)
	if err != nil {
		c.mu.Lock()
		if c.endpoints[0] == base {
			c.endpoints = append(c.endpoints[1:len(c.endpoints):len(c.endpoints)], base)
		}
		c.mu.Unlock()
		return nil, fmt.Errorf("etcd cannot be reached: %w", err)
	}
	return r, nil
}

const loginPath = "/v3/auth/authenticate"

// login fetches a token, once.
func (c *client) login(ctx context.Context, path string) (string, error) {
	if c.user == "" || path == loginPath {
		return "", nil
	}
	c.mu.Lock()
	token := c.token
	c.mu.Unlock()
	if token != "" {
		return token, nil
	}
	var r struct {
		Token string `json:"token"`
	}
	if err := c.call(ctx, loginPath, map[string]string{"name": c.user, "password": c.pass}, &r); err != nil {
		return "", fmt.Errorf("signing in as %s: %w", c.user, err)
	}
	c.mu.Lock()
	defer c.mu.Unlock()
	c.token = r.Token
	return r.Token, nil
}

// watch reads the stream of changes until it ends.
func (c *client) watch(ctx context.Context, from, to string) (<-chan struct{}, error) {
	body, err := json.Marshal(map[string]any{"create_request": rangeRequest{Key: []byte(from), RangeEnd: []byte(to)}})
	if err != nil {
		return nil, err
	}
	r, err := c.post(ctx, "/v3/watch", body)
	if err != nil {
		return nil, err
	}
	if r.StatusCode != http.StatusOK {
		defer r.Body.Close()
		reply, err := io.ReadAll(io.LimitReader(r.Body, 1<<16))
		return nil, errors.Join(refusal(r.StatusCode, reply), err)
	}
	dec := json.NewDecoder(r.Body)
	var message struct {
		Result struct {
			Events []json.RawMessage `json:"events"`
		} `json:"result"`
	}
	if err := dec.Decode(&message); err != nil { // that it was set up
		r.Body.Close()
		return nil, err
	}
	out := make(chan struct{}, 1)
	go func() {
		defer close(out)
		defer r.Body.Close()
		for {
			message.Result.Events = nil
			if err := dec.Decode(&message); err != nil {
				return
			}
			if len(message.Result.Events) > 0 {
				select {
				case out <- struct{}{}:
				default:
				}
			}
		}
	}()
	return out, nil
}
