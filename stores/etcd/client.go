package etcd

import (
	"context"
	"errors"
	"fmt"
	"net/url"
	"strings"
	"sync"
	"time"

	"go.etcd.io/etcd/api/v3/v3rpc/rpctypes"
	clientv3 "go.etcd.io/etcd/client/v3"
	"go.uber.org/zap"
	"google.golang.org/grpc"
	"google.golang.org/grpc/backoff"
	"google.golang.org/grpc/codes"
	"google.golang.org/grpc/status"

	"kasbah/transport"
)

// client is etcd's own, made at the first use, with what the store asks of it.
type client struct {
	config clientv3.Config

	mu   sync.Mutex
	made *clientv3.Client
	old  []*clientv3.Client // whose token was forgotten
}

const (
	// answerTime bounds one request.
	answerTime = 15 * time.Second
	// readTries is how often a read is sent, to one server after the other. Writes are
	// sent again by the client only where no server could be reached.
	readTries = 5
)

func newClient(s Settings) (*client, error) {
	if len(s.Endpoints) == 0 {
		return nil, errors.New("it needs endpoints, such as endpoints = [\"https://127.0.0.1:2379\"]")
	}
	secure := ""
	for _, e := range s.Endpoints {
		u, err := url.Parse(e)
		if err != nil || u.Scheme != "http" && u.Scheme != "https" || u.Host == "" || u.User != nil {
			return nil, errors.New("endpoints: each is a URL such as https://127.0.0.1:2379, and one is not")
		}
		if secure != "" && secure != u.Scheme {
			return nil, errors.New("endpoints: all begin with https, or all with http")
		}
		secure = u.Scheme
	}
	if (s.User == "") != (s.Password == "") {
		return nil, errors.New("user and password go together")
	}
	c := &client{config: clientv3.Config{
		Endpoints: s.Endpoints, Username: s.User, Password: s.Password, DialTimeout: answerTime, Logger: zap.NewNop(),
		DialKeepAliveTime: 30 * time.Second, DialKeepAliveTimeout: 10 * time.Second,
		DialOptions: []grpc.DialOption{grpc.WithChainUnaryInterceptor(attend),
			grpc.WithConnectParams(grpc.ConnectParams{
				// a server that is back is wanted at once
				Backoff: backoff.Config{BaseDelay: 50 * time.Millisecond, Multiplier: 1.5, Jitter: 0.2,
					MaxDelay: 2 * time.Second},
				MinConnectTimeout: answerTime,
			})},
		MaxUnaryRetries: readTries, BackoffWaitBetween: 100 * time.Millisecond, BackoffJitterFraction: 0.2,
	}}
	if secure == "https" {
		tls, err := transport.TLS(transport.Options{CA: s.CA, Cert: s.Cert, Key: s.Key})
		if err != nil {
			return nil, err
		}
		c.config.TLS = tls
	}
	return c, nil
}

// errForgotten is what signing in again ends with while the client shows a token that the
// server has forgotten: etcd before 3.5 refuses even that, and the client repeats it for
// ever. A new client shows none.
var errForgotten = status.Error(codes.Unauthenticated, "the server has forgotten the token")

// attend sees every try of a request. One that reaches no server fails at once, with the
// reason, and does not wait for a server to come up until its time has passed.
func attend(ctx context.Context, method string, req, reply any, to *grpc.ClientConn, invoke grpc.UnaryInvoker,
	opts ...grpc.CallOption) error {
	err := invoke(ctx, method, req, reply, to, append(opts, grpc.WaitForReady(false))...)
	if err != nil && strings.HasSuffix(method, "/Authenticate") && errors.Is(rpctypes.Error(err),
		rpctypes.ErrInvalidAuthToken) {
		return errForgotten
	}
	return err
}

// now is the client.
func (c *client) now() (*clientv3.Client, error) {
	c.mu.Lock()
	defer c.mu.Unlock()
	if c.made == nil {
		made, err := clientv3.New(c.config)
		if err != nil {
			return nil, err
		}
		c.made = made
	}
	return c.made, nil
}

// do makes one request.
func (c *client) do(ctx context.Context, request func(context.Context, *clientv3.Client) error) error {
	ctx, cancel := context.WithTimeout(ctx, answerTime)
	defer cancel()
	for first := true; ; first = false {
		etcd, err := c.now()
		if err == nil {
			err = request(ctx, etcd)
		}
		if !first || err == nil || !strings.Contains(err.Error(), status.Convert(errForgotten).Message()) {
			return c.explain(err)
		}
		c.mu.Lock()
		if c.made == etcd {
			c.made, c.old = nil, append(c.old, etcd) // others may be in the middle of a request
		}
		c.mu.Unlock()
	}
}

// explain says in our words what went wrong, and names the setting where that is clear. What
// the error is stays.
func (c *client) explain(err error) error {
	if err == nil {
		return nil
	}
	said := status.Convert(err)
	desc := strings.TrimPrefix(said.Message(), "etcdserver: ")
	var known rpctypes.EtcdError
	if errors.As(err, &known) {
		desc = strings.TrimPrefix(known.Error(), "etcdserver: ")
	}
	if inner, ok := strings.CutPrefix(desc, "connection error: desc = "); ok {
		desc = strings.TrimPrefix(strings.TrimPrefix(strings.Trim(inner, `"`), "transport: "), "Error while dialing: ")
	}
	at := strings.Join(c.config.Endpoints, ", ")
	switch {
	case errors.Is(err, context.Canceled):
		return err
	case strings.Contains(desc, "authentication failed"), strings.Contains(desc, "invalid auth token"):
		return fmt.Errorf("user and password: signing in as %s: %w", c.config.Username, &failure{desc, err})
	case strings.Contains(desc, "authentication is not enabled"):
		return fmt.Errorf("user: the server at %s knows no users: %w", at, &failure{desc, err})
	case strings.Contains(desc, "user name is empty"):
		return fmt.Errorf("user: the server at %s asks who it is, and user and password are not set: %w", at,
			&failure{desc, err})
	case strings.Contains(desc, "permission denied"):
		return fmt.Errorf("user: %s may not do this: %w", c.config.Username, &failure{desc, err})
	case strings.Contains(desc, "x509:"):
		return fmt.Errorf("ca: the certificate of %s is not trusted: %w", at, &failure{after(desc, "x509: "), err})
	case strings.Contains(desc, "tls:"), strings.Contains(desc, "handshake failed"):
		return fmt.Errorf("endpoints, ca, cert: no secure connection to %s: %w", at,
			&failure{after(desc, "handshake failed: "), err})
	case said.Code() == codes.Unavailable, said.Code() == codes.DeadlineExceeded,
		errors.Is(err, context.DeadlineExceeded):
		return fmt.Errorf("endpoints: etcd at %s cannot be reached: %w", at, &failure{desc, err})
	}
	return &failure{desc, err}
}

func after(s, mark string) string {
	if _, rest, ok := strings.Cut(s, mark); ok {
		return strings.Trim(rest, `"`)
	}
	return s
}

// failure is an error of the library, in fewer words.
type failure struct {
	says string
	err  error
}

func (f *failure) Error() string { return f.says }
func (f *failure) Unwrap() error { return f.err }

type kv struct{ Key, Value []byte }

func (c *client) get(ctx context.Context, key string) (out *kv, err error) {
	err = c.do(ctx, func(ctx context.Context, etcd *clientv3.Client) error {
		r, err := etcd.Get(ctx, key)
		if err == nil && len(r.Kvs) > 0 {
			out = &kv{r.Kvs[0].Key, r.Kvs[0].Value}
		}
		return err
	})
	return out, err
}

// page is how many keys are read at once.
const page = 1000

func (c *client) keys(ctx context.Context, from, to string) (keys []string, more bool, err error) {
	if from >= to {
		return nil, false, nil
	}
	err = c.do(ctx, func(ctx context.Context, etcd *clientv3.Client) error {
		r, err := etcd.Get(ctx, from, clientv3.WithRange(to), clientv3.WithLimit(page), clientv3.WithKeysOnly())
		if err != nil {
			return err
		}
		for _, kv := range r.Kvs {
			keys = append(keys, string(kv.Key))
		}
		more = r.More
		return nil
	})
	return keys, more, err
}

func (c *client) put(ctx context.Context, key string, v []byte) error {
	return c.do(ctx, func(ctx context.Context, etcd *clientv3.Client) error {
		_, err := etcd.Put(ctx, key, string(v))
		return err
	})
}

// putIf writes a value if a comparison holds.
func (c *client) putIf(ctx context.Context, key string, if_ clientv3.Cmp, v []byte) (won bool, err error) {
	err = c.do(ctx, func(ctx context.Context, etcd *clientv3.Client) error {
		r, err := etcd.Txn(ctx).If(if_).Then(clientv3.OpPut(key, string(v))).Commit()
		won = err == nil && r.Succeeded
		return err
	})
	return won, err
}

// remove deletes a key, or those from it to another one.
func (c *client) remove(ctx context.Context, key, to string) error {
	var opts []clientv3.OpOption
	if to != "" {
		opts = append(opts, clientv3.WithRange(to))
	}
	return c.do(ctx, func(ctx context.Context, etcd *clientv3.Client) error {
		_, err := etcd.Delete(ctx, key, opts...)
		return err
	})
}

// watch tells of puts until the context ends. The client finds another server when its own
// is lost.
func (c *client) watch(ctx context.Context, from, to string) (<-chan struct{}, error) {
	etcd, err := c.now()
	if err != nil {
		return nil, c.explain(err)
	}
	ctx, cancel := context.WithCancel(ctx)
	events := etcd.Watch(clientv3.WithRequireLeader(ctx), from, clientv3.WithRange(to), clientv3.WithCreatedNotify(),
		clientv3.WithFilterDelete())
	select {
	case first, ok := <-events: // that it was set up
		if err := first.Err(); !ok || err != nil {
			cancel()
			return nil, errors.Join(c.explain(err), ctx.Err())
		}
	case <-time.After(answerTime):
		cancel()
		return nil, fmt.Errorf("endpoints: etcd at %s does not answer", strings.Join(c.config.Endpoints, ", "))
	}
	out := make(chan struct{}, 1)
	go func() {
		defer close(out)
		defer cancel()
		for e := range events {
			if e.Err() != nil {
				return
			}
			if len(e.Events) > 0 {
				select {
				case out <- struct{}{}:
				default:
				}
			}
		}
	}()
	return out, nil
}

func (c *client) close() error {
	c.mu.Lock()
	defer c.mu.Unlock()
	if c.made != nil {
		c.old = append(c.old, c.made)
	}
	var all []error
	for _, etcd := range c.old {
		if err := etcd.Close(); !errors.Is(err, context.Canceled) { // which is how its streams end
			all = append(all, err)
		}
	}
	c.made, c.old = nil, nil
	return errors.Join(all...)
}
