package session

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

func (s *Session) pins() (*estate.Pins, error) {
	o, err := kits.New(s.Estate.Dir)
	if err != nil {
		return nil, err
	}
	return o.Pins, nil
}

// heldToPins compares drivers with their pins: changes that no declaration minds
// are told, and others are an error.
func (s *Session) heldToPins() error {
	if s.config.Unpinned {
		return nil
	}
	pins, err := s.pins()
	if err != nil {
		return err
	}
	var problems problem.List
	for _, pin := range pins.Drivers {
		c := s.Catalogs[pin.Name]
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
		found, err := s.sincePinned(pin.Name)
		breaks := slices.ContainsFunc(found, func(d schema.Difference) bool { return d.Breaks })
		says := fmt.Sprintf("driver %s offers other types than %s pins (version %s, now %s)", pin.Name, estate.PinsFile,
			pin.Version, c.Version)
		if err == nil && !breaks && len(found) > 0 {
			s.tell("%s, and no declaration needs a change: `kasbah types -compare %s` shows what changed, `kasbah "+
				"types -pin %s` takes it over", says, pin.Name, pin.Name)
			continue
		}
		e := problem.At(problem.Position{File: estate.PinsFile}, "%s", says)
		e.Hint = fmt.Sprintf("`kasbah types -compare %s` shows what changed; `kasbah types -pin %s` takes it over",
			pin.Name, pin.Name)
		problems = append(problems, e)
	}
	return problems.Err()
}

// sincePinned lists how a driver differs from what is pinned.
func (s *Session) sincePinned(name string) ([]schema.Difference, error) {
	was, err := readCatalogue(filepath.Join(s.Estate.Dir, pinnedFolder, name+".json"))
	if err != nil {
		return nil, err
	}
	return schema.Compare(was, s.Catalogs[name]), nil
}

const maxCatalogue = 64 << 20

func readCatalogue(path string) (*schema.Catalog, error) {
	body, err := disk.Read(path, maxCatalogue)
	if err != nil {
		return nil, err
	}
	var head struct{ Format string }
	if json.Unmarshal(body, &head) != nil || head.Format != catalogueFormat {
		return nil, fmt.Errorf("%s is not a catalogue (%s)", path, catalogueFormat)
	}
	c, err := schema.ParseCatalog(body)
	if err != nil {
		return nil, fmt.Errorf("%s: %w", path, err)
	}
	return c, nil
}

// Driver is what a driver of the estate offers; a *problem.UsageError where there is none of
// that name.
func (s *Session) Driver(name string) (*schema.Catalog, error) {
	if c := s.Catalogs[name]; c != nil {
		return c, nil
	}
	return nil, &problem.UsageError{Message: fmt.Sprintf("the estate has no driver %q", name), Hint: nearest.Hint(name,
		s.Estate.Drivers())}
}

// Pin pins what a driver offers now, and says which files it wrote.
func (s *Session) Pin(name string) (estate.DriverPin, []string, error) {
	pin := estate.DriverPin{Name: name}
	c, err := s.Driver(name)
	if err != nil {
		return pin, nil, err
	}
	pins, err := s.pins()
	if err != nil {
		return pin, nil, err
	}
	pin.Version = c.Version
	if pin.Types, err = c.Digest(); err != nil {
		return pin, nil, err
	}
	body, err := json.MarshalIndent(catalogueDocument{Format: catalogueFormat, Driver: name, Catalog: c}, "", "  ")
	if err != nil {
		return pin, nil, err
	}
	kept := filepath.Join(pinnedFolder, name+".json")
	if err := os.MkdirAll(filepath.Join(s.Estate.Dir, pinnedFolder), 0o755); err != nil {
		return pin, nil, err
	}
	if err := disk.Replace(filepath.Join(s.Estate.Dir, kept), append(body, '\n'), 0o644); err != nil {
		return pin, nil, err
	}
	pins.SetDriver(pin)
	if body, err = pins.Encode(); err != nil {
		return pin, nil, err
	}
	return pin, []string{estate.PinsFile, kept}, disk.Replace(filepath.Join(s.Estate.Dir, estate.PinsFile), body, 0o644)
}

// SincePinned says what is pinned of a driver, and how it differs from that now.
func (s *Session) SincePinned(name string) (*estate.DriverPin, []schema.Difference, error) {
	if _, err := s.Driver(name); err != nil {
		return nil, nil, err
	}
	pins, err := s.pins()
	if err != nil {
		return nil, nil, err
	}
	pin := pins.Driver(name)
	if pin == nil {
		return nil, nil, fmt.Errorf("driver %s is not pinned: `kasbah types -pin %s` does", name, name)
	}
	found, err := s.sincePinned(name)
	if errors.Is(err, fs.ErrNotExist) {
		return nil, nil, fmt.Errorf("%s pins driver %s, and %s, which says what it was, is not there: `kasbah types "+
			"-pin %s` writes it as it is now", estate.PinsFile, name, filepath.Join(pinnedFolder, name+".json"), name)
	}
	return pin, found, err
}
