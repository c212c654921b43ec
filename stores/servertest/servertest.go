// Package servertest starts real servers for tests: PostgreSQL, etcd, one that
// speaks S3 and a name server. They listen on 127.0.0.1 on free ports, keep their data in a
// temporary folder, and end with the test. A test is skipped where a server's
// program is not installed; scripts/test installs them.
package servertest

import (
	"context"
	"database/sql"
	"errors"
	"fmt"
	"net"
	"net/http"
	"os"
	"os/exec"
	"path/filepath"
	"strings"
	"testing"
	"time"

	"github.com/jackc/pgx/v5"
	"github.com/stretchr/testify/require"
	_ "modernc.org/sqlite"
)

// Server is a server that a test has started.
type Server struct {
	Address string // host and port

	t    *testing.T
	dir  string
	args []string
	cmd  *exec.Cmd
	// ended is closed when the process has ended.
	ended chan struct{}
	env   []string
	user  string // that it runs as; "" for our own
	up    func() error
}

// startTime is how long a server may take to answer.
const startTime = 60 * time.Second

// Start starts it again, after Stop or Kill, at the same address. A server that
// ends at once is started again: what its killed predecessor has left may be
// alive for a moment still.
func (s *Server) Start() {
	s.t.Helper()
	deadline := time.Now().Add(startTime)
	s.launch()
	for {
		err := s.up()
		if err == nil {
			return
		}
		if time.Now().After(deadline) {
			said, _ := os.ReadFile(filepath.Join(s.dir, "log")) // what there is of it
			require.FailNow(s.t, "the server does not come up", "%v\n%s", err, said)
		}
		select {
		case <-s.ended:
			time.Sleep(100 * time.Millisecond)
			s.launch()
		case <-time.After(20 * time.Millisecond):
		}
	}
}

func (s *Server) launch() {
	log, err := os.OpenFile(filepath.Join(s.dir, "log"), os.O_APPEND|os.O_CREATE|os.O_WRONLY, 0o666)
	require.NoError(s.t, err)
	defer log.Close()
	cmd := exec.Command(s.args[0], s.args[1:]...)
	cmd.Dir, cmd.Stdout, cmd.Stderr = s.dir, log, log
	cmd.Env = append(os.Environ(), s.env...)
	require.NoError(s.t, runAs(cmd, s.user))
	require.NoError(s.t, cmd.Start())
	ended := make(chan struct{})
	go func() {
		defer close(ended)
		_ = cmd.Wait() // how it ended says nothing: it is asked to, or killed
	}()
	s.cmd, s.ended = cmd, ended
}

// endTime is how long a server that is asked to end may take.
const endTime = 30 * time.Second

// Stop asks it to end, as an administrator would, and waits. One that does not listen is killed.
func (s *Server) Stop() {
	s.end(func() {
		_ = interrupt(s.cmd.Process) // it may have ended already
		select {
		case <-s.ended:
		case <-time.After(endTime):
			s.t.Logf("%s did not end when it was asked to", s.args[0])
			_ = s.cmd.Process.Kill()
		}
	})
}

// Kill ends it at once.
func (s *Server) Kill() { s.end(func() { _ = s.cmd.Process.Kill() }) }

func (s *Server) end(how func()) {
	if s.cmd != nil {
		how()
		<-s.ended
		s.cmd = nil
	}
}

// begin finishes a server that is described and starts it.
func begin(t *testing.T, s *Server) *Server {
	s.t = t
	t.Cleanup(func() {
		s.Stop()
		require.NoError(t, os.RemoveAll(s.dir))
	})
	s.Start()
	return s
}

// FreeAddress is an address of this machine at which no program listens.
func FreeAddress(t *testing.T) string {
	l, err := net.Listen("tcp", "127.0.0.1:0")
	require.NoError(t, err)
	defer l.Close()
	return l.Addr().String()
}

// program finds a program in the path or in one of some folders; the test is
// skipped when there is none.
func program(t *testing.T, name string, folders ...string) string {
	if path, err := exec.LookPath(name); err == nil {
		return path
	}
	for _, f := range folders {
		if all, err := filepath.Glob(filepath.Join(f, name)); err == nil && len(all) > 0 {
			return all[len(all)-1]
		}
	}
	t.Skipf("%s is not installed here; scripts/test installs it", name)
	return ""
}

func folder(t *testing.T) string {
	dir, err := os.MkdirTemp("", "kasbah-server-")
	require.NoError(t, err)
	return dir
}

// Postgres starts a PostgreSQL server. DSN gives the connection to a database
// of it.
func Postgres(t *testing.T) *Server {
	const debian = "/usr/lib/postgresql/*/bin"
	initdb, postgres := program(t, "initdb", debian), program(t, "postgres", debian)
	s := &Server{dir: folder(t), Address: FreeAddress(t)}
	if os.Getuid() == 0 { // it refuses to run as root
		s.user = "postgres"
		require.NoError(t, give(s.dir, s.user))
	}
	data := filepath.Join(s.dir, "data")
	init := exec.Command(initdb, "-D", data, "-A", "trust", "-U", "keeper", "--no-sync", "--locale=C.UTF-8", "-E",
		"UTF8")
	init.Dir = s.dir
	require.NoError(t, runAs(init, s.user))
	said, err := init.CombinedOutput()
	require.NoError(t, err, "%s", said)
	// keeper comes in as they are, everybody else with their password
	who := "local all keeper trust\nhost all keeper 127.0.0.1/32 trust\nhost all all 127.0.0.1/32 scram-sha-256\n"
	require.NoError(t, os.WriteFile(filepath.Join(data, "pg_hba.conf"), []byte(who), 0o600))
	_, port, _ := net.SplitHostPort(s.Address)
	s.args = []string{postgres, "-D", data, "-h", "127.0.0.1", "-p", port, "-k", s.dir, "-c", "max_connections=400"}
	s.up = func() error {
		ctx, cancel := context.WithTimeout(context.Background(), 2*time.Second)
		defer cancel()
		c, err := pgx.Connect(ctx, s.DSN("postgres"))
		if err != nil {
			return err
		}
		return c.Close(ctx)
	}
	return begin(t, s)
}

// DSN is the connection to a database of a PostgreSQL server.
func (s *Server) DSN(database string) string {
	return fmt.Sprintf("postgres://keeper@%s/%s?sslmode=disable", s.Address, database)
}

// Etcd starts an etcd server of one member.
func Etcd(t *testing.T) *Server {
	s := &Server{dir: folder(t), Address: FreeAddress(t)}
	peer := "http://" + FreeAddress(t)
	s.args = []string{program(t, "etcd"), "--data-dir", filepath.Join(s.dir, "data"), "--listen-client-urls", s.URL(),
		"--advertise-client-urls", s.URL(),
		"--listen-peer-urls", peer, "--initial-advertise-peer-urls", peer, "--initial-cluster", "default=" + peer}
	s.env = []string{"ETCD_UNSUPPORTED_ARCH=arm64"}
	s.up = func() error { return answers(s.URL() + "/health") }
	return begin(t, s)
}

// URL is where a server that speaks HTTP answers.
func (s *Server) URL() string { return "http://" + s.Address }

func answers(url string) error {
	c := http.Client{Timeout: 2 * time.Second}
	r, err := c.Get(url)
	if err != nil {
		return err
	}
	defer r.Body.Close()
	if r.StatusCode >= 500 {
		return fmt.Errorf("%s", r.Status)
	}
	return nil
}

// The keys and the bucket of S3.
const (
	AccessKey = "lantern-keeper"
	SecretKey = "lantern-keeper-secret"
	Bucket    = "ledgers"
)

// S3 starts a server that speaks the S3 protocol, with a bucket in it.
func S3(t *testing.T) *Server {
	s := &Server{dir: folder(t), Address: FreeAddress(t)}
	data := filepath.Join(s.dir, "data")
	require.NoError(t, os.MkdirAll(filepath.Join(data, Bucket), 0o755))
	s.args = []string{program(t, "versitygw", goBin()), "--access", AccessKey, "--secret", SecretKey, "--port",
		s.Address, "--quiet", "posix", data}
	s.up = func() error { return answers(s.URL()) }
	return begin(t, s)
}

// The key that updates of a name server's zones are signed with.
const (
	ZoneKey    = "keepers"
	ZoneSecret = "bGFudGVybi1jb2FzdC1rZWVwZXJzLWhhdmUtYS1rZXk="
)

// Names starts a name server (BIND) that lets the holder of ZoneKey change zones
// and read them whole. In zones whose names begin with narrow. that is only so for the kinds A
// and TXT of names below open.
func Names(t *testing.T, zones ...string) *Server {
	named := program(t, "named", "/usr/sbin")
	s := &Server{dir: folder(t), Address: FreeAddress(t)}
	host, port, _ := net.SplitHostPort(s.Address)
	conf := fmt.Sprintf(`key "%s" { algorithm hmac-sha256; secret "%s"; };
options { directory "%s"; listen-on port %s { %s; }; listen-on-v6 { none; }; recursion no; allow-transfer { none; }; pid-file "named.pid"; session-keyfile "session.key"; dnssec-validation no; notify no; };
controls { };
`, ZoneKey, ZoneSecret, s.dir, port, host)
	for _, z := range zones {
		body := fmt.Sprintf("$TTL 3600\n@ IN SOA ns.%[1]s. keepers.%[1]s. 1 3600 600 86400 300\n@ IN NS "+
			"ns.%[1]s.\nns IN A 127.0.0.1\n", z)
		require.NoError(t, os.WriteFile(filepath.Join(s.dir, z+".zone"), []byte(body), 0o644))
		may := fmt.Sprintf("allow-update { key %q; };", ZoneKey)
		if strings.HasPrefix(z, "narrow.") {
			may = fmt.Sprintf("update-policy { grant %q subdomain open.%s. A TXT; };", ZoneKey, z)
		}
		conf += fmt.Sprintf("zone \"%[1]s\" { type primary; file \"%[1]s.zone\"; %[3]s allow-transfer { key "+
			"\"%[2]s\"; }; };\n", z, ZoneKey, may)
	}
	file := filepath.Join(s.dir, "named.conf")
	require.NoError(t, os.WriteFile(file, []byte(conf), 0o644))
	s.args = []string{named, "-g", "-c", file, "-p", port, "-n", "1"}
	s.up = func() error {
		c, err := net.DialTimeout("tcp", s.Address, 2*time.Second)
		if err != nil {
			return err
		}
		return c.Close()
	}
	return begin(t, s)
}

// NamesKey is the key of a name server's HTTP API.
const NamesKey = "lantern-keepers-key"

// PowerDNS starts a name server with an HTTP API of its own, below /api/v1, which serves
// its own document (OpenAPI 2.0) as well, at /api/docs.
func PowerDNS(t *testing.T) *Server {
	pdns := program(t, "pdns_server", "/usr/sbin")
	schema, err := os.ReadFile("/usr/share/pdns-backend-sqlite3/schema/schema.sqlite3.sql")
	if err != nil {
		t.Skipf("the SQLite backend of PowerDNS is not installed here; scripts/test installs it")
	}
	s := &Server{dir: folder(t), Address: FreeAddress(t)}
	db, err := sql.Open("sqlite", filepath.Join(s.dir, "names.db"))
	require.NoError(t, err)
	_, err = db.Exec(string(schema))
	require.NoError(t, errors.Join(err, db.Close()))
	host, port, _ := net.SplitHostPort(s.Address)
	_, names, _ := net.SplitHostPort(FreeAddress(t))
	conf := fmt.Sprintf("launch=gsqlite3\ngsqlite3-database=%[1]s/names.db\nlocal-address=127.0.0.1\nlocal-port=%[2]s\nwebserver=yes\nwebserver-address=%[3]s\nwebserver-port=%[4]s\napi=yes\napi-key=%[5]s\nsocket-dir=%[1]s\nsecurity-poll-suffix=\n",
		s.dir, names, host, port, NamesKey)
	require.NoError(t, os.WriteFile(filepath.Join(s.dir, "pdns.conf"), []byte(conf), 0o600))
	s.args = []string{pdns, "--config-dir=" + s.dir, "--daemon=no", "--guardian=no", "--write-pid=no"}
	s.up = func() error { return answers(s.URL() + "/api/docs") }
	return begin(t, s)
}

// The key of a server of feature flags, and the version of it that is installed.
const (
	FlagsKey     = "*:*.lantern-keepers-key"
	flagsVersion = "6.10.1"
)

// Flags starts a server of feature flags (unleash-server, on a PostgreSQL server of its own),
// whose HTTP API is below /api/admin and its document at /docs/openapi.json.
func Flags(t *testing.T) *Server {
	cache, err := os.UserCacheDir()
	require.NoError(t, err)
	main := filepath.Join(cache, "kasbah-tests", "unleash-server-"+flagsVersion, "node_modules", "unleash-server",
		"dist", "server.js")
	if _, err := os.Stat(main); err != nil {
		t.Skipf("the server of feature flags is not installed here; scripts/test -thorough installs it")
	}
	node, db := program(t, "node"), Postgres(t)
	s := &Server{dir: folder(t), Address: FreeAddress(t)}
	host, port, _ := net.SplitHostPort(s.Address)
	s.args = []string{node, main}
	s.env = []string{
		"TZ=UTC", "CHECK_VERSION=false", "SEND_TELEMETRY=false", "ENABLE_OAS=true", "HTTP_HOST=" + host, "HTTP_PORT=" +
			port,
		"DATABASE_URL=" + db.DSN("postgres"), "DATABASE_SSL=false", "INIT_ADMIN_API_TOKENS=" + FlagsKey,
		"LOG_LEVEL=warn",
	}
	s.up = func() error { return answers(s.URL() + "/health") }
	return begin(t, s)
}

// goBin is where Go installs programs.
func goBin() string {
	out, err := exec.Command("go", "env", "GOPATH").Output()
	if err != nil {
		return ""
	}
	return filepath.Join(strings.TrimSpace(string(out)), "bin")
}
