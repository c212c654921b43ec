package cli

import (
	"encoding/json"
	"errors"
	"fmt"
	"io/fs"
	"os"
	"path/filepath"
	"slices"

	"kasbah/core/disk"
	"kasbah/core/estate"
	"kasbah/core/nearest"
	"kasbah/core/problem"
	"kasbah/core/schema"
	"kasbah/kits"
	"kasbah/render"
)

// catalogueFormat is that of the files in the folder of pinned catalogues, by which
// a driver that changed can be told how.
const catalogueFormat = "kasbah.catalogue/1"

type catalogueDocument struct {
	Format string `json:"format"`
	Driver string `json:"driver"`
	*schema.Catalog
}

// pinnedFolder holds a file for each driver that is pinned.
const pinnedFolder = "pins"

func (p *project) pins() (*estate.Pins, error) {
	o, err := kits.New(p.estate.Dir)
	if err != nil {
		return nil, err
	}
	return o.Pins, nil
}

// heldToPins compares drivers with their pins: changes that no declaration minds
// are told, and others are an error.
func (a *app) heldToPins(p *project) error {
	if a.unpinned {
		return nil
	}
	pins, err := p.pins()
	if err != nil {
		return err
	}
	var problems problem.List
	for _, pin := range pins.Drivers {
		c := p.catalogs[pin.Name]
		if c == nil {
			continue // another environment has it, or none any more
		}
		digest, err := c.Digest()
		if err != nil {
			return err
		}
		if digest == pin.Types {
			continue
		}
		found, err := p.sincePinned(pin.Name)
		breaks := slices.ContainsFunc(found, func(d schema.Difference) bool { return d.Breaks })
		says := fmt.Sprintf("driver %s offers other types than %s pins (version %s, now %s)", pin.Name, estate.PinsFile, pin.Version, c.Version)
		if err == nil && !breaks && len(found) > 0 {
			a.say("%s, and no declaration minds: `kasbah types -compare %s` shows what changed, `kasbah types -pin %s` takes it over", says, pin.Name, pin.Name)
			continue
		}
		e := problem.At(problem.Position{File: estate.PinsFile}, "%s", says)
		e.Hint = fmt.Sprintf("`kasbah types -compare %s` shows what changed; `kasbah types -pin %s` takes it over", pin.Name, pin.Name)
		problems = append(problems, e)
	}
	return problems.Err()
}

// sincePinned lists how a driver differs from what is pinned.
func (p *project) sincePinned(name string) ([]schema.Difference, error) {
	was, err := readCatalogue(filepath.Join(p.estate.Dir, pinnedFolder, name+".json"))
	if err != nil {
		return nil, err
	}
	return schema.Compare(was, p.catalogs[name]), nil
}

const maxCatalogue = 64 << 20

func readCatalogue(path string) (*schema.Catalog, error) {
	info, err := os.Stat(path)
	if err != nil {
		return nil, err
	}
	if info.Size() > maxCatalogue {
		return nil, fmt.Errorf("%s is larger than %d bytes", path, maxCatalogue)
	}
	body, err := os.ReadFile(path)
	if err != nil {
		return nil, err
	}
	var head struct{ Format string }
	if json.Unmarshal(body, &head) != nil || head.Format != catalogueFormat {
		return nil, fmt.Errorf("%s is no catalogue (%s)", path, catalogueFormat)
	}
	c, err := schema.ParseCatalog(body)
	if err != nil {
		return nil, fmt.Errorf("%s: %w", path, err)
	}
	return c, nil
}

// driverNamed is a driver of the estate.
func (p *project) driverNamed(name string) (*schema.Catalog, error) {
	if c := p.catalogs[name]; c != nil {
		return c, nil
	}
	return nil, &problem.UsageError{Message: fmt.Sprintf("the estate has no driver %q", name), Hint: nearest.Hint(name, p.estate.Drivers())}
}

func (p *project) driverAndPins(name string) (*schema.Catalog, *estate.Pins, error) {
	c, err := p.driverNamed(name)
	if err != nil {
		return nil, nil, err
	}
	pins, err := p.pins()
	return c, pins, err
}

// pinDriver pins what a driver offers now.
func (a *app) pinDriver(p *project, name string) error {
	c, pins, err := p.driverAndPins(name)
	if err != nil {
		return err
	}
	pin := estate.DriverPin{Name: name, Version: c.Version}
	if pin.Types, err = c.Digest(); err != nil {
		return err
	}
	body, err := json.MarshalIndent(catalogueDocument{Format: catalogueFormat, Driver: name, Catalog: c}, "", "  ")
	if err != nil {
		return err
	}
	kept := filepath.Join(pinnedFolder, name+".json")
	if err := os.MkdirAll(filepath.Join(p.estate.Dir, pinnedFolder), 0o755); err != nil {
		return err
	}
	if err := disk.Replace(filepath.Join(p.estate.Dir, kept), append(body, '\n'), 0o644); err != nil {
		return err
	}
	pins.SetDriver(pin)
	if body, err = pins.Encode(); err != nil {
		return err
	}
	if err := disk.Replace(filepath.Join(p.estate.Dir, estate.PinsFile), body, 0o644); err != nil {
		return err
	}
	if a.json {
		return a.document(render.PinDocument{Format: "kasbah.pin/1", Driver: name, Version: pin.Version, Types: pin.Types})
	}
	a.out().Printf("pinned %s %s with %s\nwrote %s, %s\n", name, pin.Version, render.Count(len(c.Types), "type"), estate.PinsFile, kept)
	return nil
}

// compareDriver shows how a driver differs from what is pinned.
func (a *app) compareDriver(p *project, name string) error {
	c, pins, err := p.driverAndPins(name)
	if err != nil {
		return err
	}
	pin := pins.Driver(name)
	if pin == nil {
		return fmt.Errorf("driver %s is not pinned: `kasbah types -pin %s` does", name, name)
	}
	found, err := p.sincePinned(name)
	if errors.Is(err, fs.ErrNotExist) {
		return fmt.Errorf("%s pins driver %s, and %s, which says what it was, is not there: `kasbah types -pin %s` writes it anew, as it is now", estate.PinsFile, name, filepath.Join(pinnedFolder, name+".json"), name)
	}
	if err != nil {
		return err
	}
	d := render.CatalogueChanges{Format: "kasbah.catalogue-changes/1", Driver: name, Was: pin.Version, Is: c.Version, Changes: found}
	if d.Changes == nil {
		d.Changes = []schema.Difference{}
	}
	if a.json {
		return a.document(d)
	}
	a.out().CatalogueChanges(d)
	return nil
}
