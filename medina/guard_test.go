package medina

import (
	"bufio"
	"bytes"
	"context"
	"database/sql"
	"net"
	"net/http"
	"os"
	"path/filepath"
	"strings"
	"testing"
	"time"

	"github.com/stretchr/testify/require"
)

func asked(t *testing.T, method, url, body string, header map[string]string) int {
	r, err := http.NewRequest(method, url, strings.NewReader(body))
	require.NoError(t, err)
	for k, v := range header {
		if k == "Host" {
			r.Host = v
		}
		r.Header.Set(k, v)
	}
	res, err := http.DefaultClient.Do(r)
	require.NoError(t, err)
	require.NoError(t, res.Body.Close())
	return res.StatusCode
}

// TestForeignPages: a page of another origin changes nothing, also without tokens, and a
// name that was made to lead here reads nothing.
func TestForeignPages(t *testing.T) {
	l, err := Listen("127.0.0.1:0", Options{Path: filepath.Join(t.TempDir(), "medina.db")})
	require.NoError(t, err)
	defer l.Close()
	page := map[string]string{"Origin": "https://elsewhere.example", "Sec-Fetch-Site": "cross-site",
		"Content-Type": "text/plain"}
	for _, to := range [][2]string{{"POST", "/buckets"}, {"POST", "/snapshot"}, {"POST", "/faults"},
		{"DELETE", "/things"}, {"POST", "/tokens"}, {"DELETE", "/faults"}, {"PATCH", "/buckets/x"}} {
		require.Equal(t, http.StatusForbidden, asked(t, to[0], l.URL+to[1], "{}", page), to)
	}
	for _, path := range []string{"/buckets", "/openapi.json", "/console/", "/events", "/sites/x/y", "/nothing"} {
		require.Equal(t, http.StatusMisdirectedRequest, asked(t, "GET", l.URL+path, "",
			map[string]string{"Host": "elsewhere.example:80"}), path)
	}
	for _, host := range []string{"localhost:9", "127.0.0.1", "[::1]:7711", "192.0.2.1:80", "LOCALHOST."} {
		require.Equal(t, http.StatusOK, asked(t, "GET", l.URL+"/buckets", "", map[string]string{"Host": host}), host)
	}
	require.Equal(t, http.StatusCreated, asked(t, "POST", l.URL+"/buckets", `{"name": "a"}`,
		map[string]string{"Content-Type": "application/json"}), "a program is not a page")
}

// TestEmbeddedIsOurs: an embedded Medina answers its own program alone.
func TestEmbeddedIsOurs(t *testing.T) {
	s := Settings{API: "embedded", Options: Options{Path: filepath.Join(t.TempDir(), "medina.db")}}
	s.own()
	start, stop := s.base()
	url, err := start(context.Background())
	require.NoError(t, err)
	for _, path := range []string{"/buckets", "/openapi.json", "/console/", "/sites/x/y"} {
		require.Equal(t, http.StatusUnauthorized, asked(t, "GET", url+path, "", nil), path)
		require.Equal(t, http.StatusUnauthorized, asked(t, "GET", url+path, "",
			map[string]string{"Authorization": "Bearer guess"}), path)
	}
	require.NoError(t, stop())
	d, err := s.Driver("tester")
	require.NoError(t, err)
	_, err = d.Create(context.Background(), "bucket", map[string]any{"name": "a"}, "")
	require.NoError(t, err)
	require.NoError(t, d.Close())
}

// TestMedinasFiles: nobody else reads what Medina keeps.
func TestMedinasFiles(t *testing.T) {
	dir := t.TempDir()
	path := filepath.Join(dir, "medina.db")
	require.NoError(t, os.WriteFile(path, nil, 0o644)) // as an older one left it
	l, err := Listen("127.0.0.1:0", Options{Path: path})
	require.NoError(t, err)
	defer l.Close()
	require.Equal(t, http.StatusCreated, asked(t, "POST", l.URL+"/buckets", `{"name": "a"}`, nil))
	files, err := os.ReadDir(dir)
	require.NoError(t, err)
	require.NotEmpty(t, files)
	for _, f := range files {
		info, err := f.Info()
		require.NoError(t, err)
		require.Zero(t, info.Mode().Perm()&0o077, f.Name())
	}
}

// TestCraftedSnapshots: what is no snapshot is refused before anything of it runs.
func TestCraftedSnapshots(t *testing.T) {
	l, err := Listen("127.0.0.1:0", Options{Path: filepath.Join(t.TempDir(), "medina.db")})
	require.NoError(t, err)
	defer l.Close()
	require.Equal(t, http.StatusCreated, asked(t, "POST", l.URL+"/buckets", `{"name": "a"}`, nil))
	var good bytes.Buffer
	s := Settings{API: l.URL}
	require.NoError(t, s.Snapshot(context.Background(), &good))
	for _, c := range []struct{ name, script string }{
		{"a trigger", `create trigger t after insert on things begin delete from things; end`},
		{"a view",
			`drop table faults; create view faults as select 1 as seq, 'x' as kind, '' as call, '' as type, 0 as after, 1 as times, 0 as millis`},
		{"another table", `create table surprise (a)`},
		{"a virtual table", `create virtual table keys2 using fts5(a)`},
	} {
		t.Run(c.name, func(t *testing.T) {
			path := filepath.Join(t.TempDir(), "crafted.db")
			require.NoError(t, os.WriteFile(path, good.Bytes(), 0o600))
			db, err := sql.Open("sqlite", path)
			require.NoError(t, err)
			_, err = db.Exec(c.script)
			require.NoError(t, err, c.name)
			require.NoError(t, db.Close())
			body, err := os.ReadFile(path)
			require.NoError(t, err)
			err = s.Reset(context.Background(), bytes.NewReader(body))
			require.ErrorContains(t, err, "the body is not a snapshot of a Medina: it holds a ", c.name)
		})
	}
	for _, body := range []string{"", "SQLite format 3\x00" + strings.Repeat("x", 5000), "somebody's words"} {
		require.ErrorContains(t, s.Reset(context.Background(), strings.NewReader(body)),
			"the body is not a snapshot of a Medina")
	}
	require.NoError(t, s.Reset(context.Background(), bytes.NewReader(good.Bytes())))
}

// TestSlowBody: a body that does not come is not waited for without end.
func TestSlowBody(t *testing.T) {
	defer func(was time.Duration) { bodyTime = was }(bodyTime)
	bodyTime = 300 * time.Millisecond
	l, err := Listen("127.0.0.1:0", Options{Path: filepath.Join(t.TempDir(), "medina.db")})
	require.NoError(t, err)
	defer l.Close()
	c, err := net.Dial("tcp", strings.TrimPrefix(l.URL, "http://"))
	require.NoError(t, err)
	defer c.Close()
	_, err = c.Write([]byte("POST /buckets HTTP/1.1\r\nHost: localhost\r\nContent-Length: 100\r\n\r\n{"))
	require.NoError(t, err)
	require.NoError(t, c.SetReadDeadline(time.Now().Add(20*time.Second)))
	answer, err := bufio.NewReader(c).ReadString('\n')
	require.NoError(t, err)
	require.Contains(t, answer, " 400 ")
}
