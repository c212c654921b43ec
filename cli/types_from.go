package cli

import (
	"context"
	"errors"
	"fmt"
	"io/fs"
	"net/url"
	"os"
	"path/filepath"
	"strings"

	"kasbah/core/schema"
	"kasbah/core/value"
	"kasbah/drivers/openapi"
	"kasbah/render"
)

const maxOverlay = 64 << 20

func readOverlay(path string) ([]byte, error) {
	info, err := os.Stat(path)
	if err != nil {
		return nil, err
	}
	if info.Size() > maxOverlay {
		return nil, fmt.Errorf("%s is larger than %d bytes", path, maxOverlay)
	}
	return os.ReadFile(path)
}

// typesFrom says what an OpenAPI document offers to a driver.
func (a *app) typesFrom(ctx context.Context, file string, overlays []string, draft bool, probe string) error {
	body, err := openapi.Gather(a.path(file), "")
	if errors.Is(err, fs.ErrNotExist) {
		return fmt.Errorf("there is no file %s", file)
	}
	if err != nil {
		return err
	}
	var over [][]byte
	for _, o := range overlays {
		b, err := readOverlay(a.path(o))
		if err != nil {
			return err
		}
		over = append(over, b)
	}
	var offer *schema.Offer
	var overlay []byte
	if probe == "" {
		offer, overlay, err = openapi.Examine(body, over)
	} else {
		var o openapi.Options
		if o, err = a.probed(ctx, file, probe); err == nil {
			o.Document, o.Overlays = body, over
			offer, overlay, err = openapi.Probe(ctx, o)
		}
	}
	if err != nil {
		return fmt.Errorf("%s: %w", file, err)
	}
	switch {
	case draft && overlay == nil:
		return errors.New("there is nothing to draft: every collection of the document that can be a type is one")
	case draft:
		a.out().Printf("%s", overlay)
		return nil
	case a.json:
		return a.document(render.OfferDocument{Format: "kasbah.offer/1", Offer: offer})
	}
	a.out().Offer(file, offer)
	return nil
}

// probed is how an API is asked whose document is looked at: as the driver asks that
// kasbah.toml has for the same document or the same address, where there is one.
func (a *app) probed(ctx context.Context, file, at string) (openapi.Options, error) {
	base := func(context.Context) (string, error) { return at, nil }
	if u, err := url.Parse(at); err != nil || u.Scheme != "http" && u.Scheme != "https" || u.Host == "" {
		return openapi.Options{}, fmt.Errorf("-probe %s: it is no URL of an API, such as https://harbour.example/v1", at)
	}
	anybody := openapi.Options{Base: base}
	e, err := a.estate()
	if err != nil { // the folder holds no estate
		return anybody, nil
	}
	p := newProject(e)
	p.home = a.home
	if p.env, err = a.environment(e); err != nil {
		return anybody, err
	}
	id := a.identity()
	for _, name := range e.Drivers() {
		s := value.Map(e.Driver(name, p.env))
		spec, _ := s["spec"].(string)
		api, _ := s["api"].(string)
		if s["kind"] != "openapi" || filepath.Clean(p.below(spec)) != filepath.Clean(a.path(file)) && strings.TrimSuffix(api, "/") != strings.TrimSuffix(at, "/") {
			continue
		}
		o, err := openAPIOptions(driverSetting{p: p, name: name, from: id.Who + "@" + id.Host}, s)
		o.Base = base
		return o, err
	}
	return anybody, nil
}
