package cli

import (
	"context"
	"errors"
	"fmt"
	"io/fs"
	"net/url"

	"kasbah/core/disk"
	"kasbah/core/schema"
	"kasbah/drivers/openapi"
	"kasbah/render"
	"kasbah/session"
)

const maxOverlay = 64 << 20 // bytes

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
		b, err := disk.Read(a.path(o), maxOverlay)
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
		return openapi.Options{}, fmt.Errorf("-probe %s: it is not a URL of an API, such as https://harbour.example/v1",
			at)
	}
	o, err := session.OpenAPIOptions(a.config(a.env, nil), a.path(file), at)
	o.Base = base
	return o, err
}
