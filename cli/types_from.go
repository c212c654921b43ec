package cli

import (
	"errors"
	"fmt"
	"io/fs"
	"os"

	"kasbah/driver/openapi"
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
func (a *app) typesFrom(file string, overlays []string, draft bool) error {
	body, err := openapi.Gather(a.path(file))
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
	offer, overlay, err := openapi.Examine(body, over)
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
