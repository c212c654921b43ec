package kits

import (
	"context"
	"fmt"
	"os"
	"path/filepath"

	"kasbah/core/disk"
	"kasbah/core/estate"
	"kasbah/core/problem"
)

// Update is a change of one kit's version or pin.
type Update struct {
	From   estate.KitSource
	To     estate.KitSource
	Pin    estate.Pin  // as it will be
	Pinned *estate.Pin // as it is for From; nil for none
	Newest bool        // there is nothing to do
	Dir    string      // of the new version
	Envs   []string    // that use the source

	estate *estate.Estate
	opener *Opener
}

// FindUpdate finds out what a kit can be updated to: a tag, or the newest version for "". The
// kit is looked for in one environment, or in all of them for "". A kit in a folder of the
// estate has no other version.
func FindUpdate(ctx context.Context, e *estate.Estate, env, name, tag string) (*Update, error) {
	u := &Update{estate: e}
	var err error
	if u.opener, err = New(e.Dir); err != nil {
		return nil, err
	}
	if err := u.source(env, name); err != nil || u.From.InEstate() {
		return u, err
	}
	u.To = u.From
	switch {
	case u.From.Git == "" && tag != "":
		return nil, problem.Usage("kit %s comes from a folder, which has no tags", name)
	case tag != "":
		u.To.Tag = tag
	case u.From.Git != "":
		versions, err := u.opener.Versions(ctx, u.From)
		if err != nil {
			return nil, err
		}
		if len(versions) > 0 {
			u.To.Tag = versions[len(versions)-1]
		}
	}
	f, err := u.opener.Fetch(ctx, u.To)
	if err != nil {
		return nil, err
	}
	k, err := Read(name, f.Dir)
	if err != nil {
		return nil, err
	}
	defer k.Root.Close()
	u.Dir = f.Dir
	u.Pin = estate.Pin{Name: name, Source: u.To.String(), Version: k.Version, Commit: f.Commit, Digest: f.Digest}
	u.Pinned = u.opener.Pins.Of(name, u.From.String())
	same := u.opener.Pins.Of(name, u.To.String())
	u.Newest = same != nil && same.Digest == f.Digest && u.To.Tag == u.From.Tag
	return u, nil
}

// source is the kit's source in the environment that was asked for, and the
// environments that share it.
func (u *Update) source(asked, name string) error {
	found := false
	for _, env := range u.estate.Environments() {
		src, ok := u.estate.Kits(env)[name]
		if !ok || asked != "" && asked != env {
			continue
		}
		if !found {
			u.From, found = src, true
		}
		if src.String() != u.From.String() {
			return problem.Usage("kit %s comes from different sources by environment: name one with -env", name)
		}
		u.Envs = append(u.Envs, env)
	}
	if !found {
		return &problem.UsageError{Message: "kasbah.toml names no kit " + name + " under [kits]",
			Hint: fmt.Sprintf("write %s = { git = \"URL\", tag = \"TAG\" } there", name)}
	}
	return nil
}

// Write changes the pin and the tag in kasbah.toml, the pin first: without it the new tag
// would be refused. It returns the files that it wrote.
func (u *Update) Write() ([]string, error) {
	u.opener.Pins.Set(u.Pin)
	body, err := u.opener.Pins.Encode()
	if err != nil {
		return nil, err
	}
	if err := disk.Replace(filepath.Join(u.estate.Dir, estate.PinsFile), body, 0o644); err != nil {
		return nil, err
	}
	if u.From.Tag == u.To.Tag {
		return []string{estate.PinsFile}, nil
	}
	return []string{estate.File, estate.PinsFile}, u.retag()
}

// retag rewrites the tag where kasbah.toml gives it, and nothing else.
func (u *Update) retag() error {
	path := filepath.Join(u.estate.Dir, estate.File)
	body, err := os.ReadFile(path)
	if err != nil {
		return err
	}
	after, err := estate.WithTag(string(body), u.From, u.To.Tag)
	if err != nil {
		return err
	}
	return disk.Replace(path, []byte(after), 0o644)
}
