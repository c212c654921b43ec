package main

import (
	"bytes"
	"encoding/json"
	"errors"
	"fmt"
	"io"
	"net/http"
	"net/http/httptest"
	"net/http/httputil"
	"net/url"
	"os"
	"path/filepath"
	"sync"
	"time"

	"golang.org/x/sync/errgroup"

	"kasbah/core/enact"
)

// call is a call that changes something, as it was made.
type call struct {
	method, path string
	header       http.Header
	body         []byte
}

// quickly is a run over many things of a cloud that answers at once, against a bare client that makes the same
// calls: nothing but them, as many at a time, and one durable write for each batch of answers.
func (b *bench) quickly() ([]row, error) {
	n := min(b.n, 10_000)
	dir, err := b.files("quick", map[string]string{
		"kasbah.toml": "estate = \"coast\"\nwards = [\"shore\"]\n[drivers.medina]\nkind = \"medina\"\npace = 0\n[env.trial]\n",
		"shore/shore.star": fmt.Sprintf("[medina.bucket(\"log-%%d\" %% i, name = \"coast-log-%%d\" %% i, tags = {\"light\": \"sallow\"}) "+
			"for i in range(%d)]\n", n),
	})
	if err != nil {
		return nil, err
	}
	defer os.RemoveAll(dir)
	enacted := func(api string) (ran, error) {
		defer os.RemoveAll(filepath.Join(dir, ".kasbah"))
		return b.program(dir, b.kasbah, "enact", "-yes", "-quiet", "-with", "drivers.medina.api="+api)
	}
	calls, err := b.heard(n, enacted)
	if err != nil {
		return nil, err
	}
	ours, floor, err := paired(b.times,
		func() (ran, error) { return b.inCloud(enacted) },
		func() (ran, error) {
			return b.inCloud(func(api string) (ran, error) { return barely(api, b.dir, calls) })
		})
	return []row{
		{work: fmt.Sprintf("enact, %d resources, a cloud that answers at once", n),
			against: fmt.Sprintf("a bare client that makes the same calls, %d at a time, and one fsync for each batch of answers",
				enact.DefaultParallel),
			took: ours.seconds, floor: floor.seconds, ratio: ours.ratio, bar: "1.3x"},
		{work: "its peak of memory", took: float64(ours.peak >> 20), unit: "MB"},
	}, err
}

// inCloud runs something with a cloud of its own, in which nothing is yet.
func (b *bench) inCloud(run func(api string) (ran, error)) (ran, error) {
	dir, err := os.MkdirTemp(b.dir, "cloud")
	if err != nil {
		return ran{}, err
	}
	defer os.RemoveAll(dir)
	api, end, err := b.cloud(filepath.Join(dir, "medina.db"))
	if err != nil {
		return ran{}, err
	}
	defer end()
	return run(api)
}

// heard are the calls that a run makes to change something.
func (b *bench) heard(n int, run func(api string) (ran, error)) ([]call, error) {
	var mu sync.Mutex
	var calls []call
	_, err := b.inCloud(func(api string) (ran, error) {
		to, err := url.Parse(api)
		if err != nil {
			return ran{}, err
		}
		proxy := httputil.NewSingleHostReverseProxy(to)
		hears := httptest.NewServer(http.HandlerFunc(func(w http.ResponseWriter, r *http.Request) {
			if r.Method != http.MethodGet {
				body, err := io.ReadAll(r.Body)
				if err != nil {
					http.Error(w, err.Error(), http.StatusBadRequest)
					return
				}
				r.Body = io.NopCloser(bytes.NewReader(body))
				mu.Lock()
				calls = append(calls, call{r.Method, r.URL.RequestURI(), r.Header.Clone(), body})
				mu.Unlock()
			}
			proxy.ServeHTTP(w, r)
		}))
		defer hears.Close()
		return run(hears.URL)
	})
	if err == nil && len(calls) != n {
		err = fmt.Errorf("a run of %d makes %d calls", n, len(calls))
	}
	return calls, err
}

// barely makes calls, and keeps the answers.
func barely(api, dir string, calls []call) (ran, error) {
	f, err := os.CreateTemp(dir, "answers")
	if err != nil {
		return ran{}, err
	}
	client := http.Client{Transport: &http.Transport{MaxIdleConnsPerHost: enact.DefaultParallel}}
	defer client.CloseIdleConnections()
	type answer struct {
		body []byte
		kept chan error
	}
	began := time.Now()
	answers := make(chan answer, enact.DefaultParallel)
	ended := make(chan struct{})
	go func() { // one durable write for all answers that are there
		defer close(ended)
		for a := range answers {
			batch, told := append(a.body, '\n'), []chan error{a.kept}
			for more := true; more; {
				select {
				case next, ok := <-answers:
					if more = ok; ok {
						batch, told = append(append(batch, next.body...), '\n'), append(told, next.kept)
					}
				default:
					more = false
				}
			}
			_, err := f.Write(batch)
			err = errors.Join(err, f.Sync())
			for _, c := range told {
				c <- err
			}
		}
	}()
	var g errgroup.Group
	g.SetLimit(enact.DefaultParallel)
	for _, c := range calls {
		g.Go(func() error {
			body, err := c.make(&client, api)
			if err != nil {
				return err
			}
			a := answer{body, make(chan error, 1)}
			answers <- a
			return <-a.kept
		})
	}
	err = g.Wait()
	close(answers)
	<-ended
	return ran{seconds: time.Since(began).Seconds()}, errors.Join(err, f.Close(), os.Remove(f.Name()))
}

// make makes the call, and parses the answer.
func (c *call) make(client *http.Client, api string) ([]byte, error) {
	r, err := http.NewRequest(c.method, api+c.path, bytes.NewReader(c.body))
	if err != nil {
		return nil, err
	}
	r.Header = c.header.Clone()
	answer, err := client.Do(r)
	if err != nil {
		return nil, err
	}
	body, err := io.ReadAll(answer.Body)
	if err := errors.Join(err, answer.Body.Close()); err != nil {
		return nil, err
	}
	if answer.StatusCode >= 300 {
		return nil, fmt.Errorf("%s %s: %s: %s", c.method, c.path, answer.Status, body)
	}
	var parsed map[string]any
	return body, json.Unmarshal(body, &parsed)
}
