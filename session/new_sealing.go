package session

import (
	"errors"
	"fmt"
	"io/fs"
	"regexp"
	"strings"

	"kasbah/core/seal"
	"kasbah/home"
)

// sealingOf are the lines of kasbah.toml that seal an estate.
func sealingOf(recipients []string, pin seal.Pin, writer string) string {
	var quoted []string
	for _, r := range recipients {
		quoted = append(quoted, fmt.Sprintf("%q", r))
	}
	return fmt.Sprintf("seal       = \"all\"   # every object is encrypted to these keys before it leaves this "+
		"machine\nrecipients = [%s]\nestate_id  = %q\nestate_key = %q\nwriters    = [%q]   # who may write it; each "+
		"run signs what it writes\n",
		strings.Join(quoted, ", "), pin.ID, pin.Digest, writer)
}

// keyName is what a key of the person is called where it is listed.
func keyName(who string) string {
	name := regexp.MustCompile(`[^a-z0-9_.-]+`).ReplaceAllString(strings.ToLower(who), "-")
	if name = strings.Trim(name, "-._0123456789"); name == "" {
		return "somebody"
	}
	return name
}

// NewSealing finds or makes the person's key and makes the estate's, and
// returns the lines of kasbah.toml and what to say.
func NewSealing(open func() (*home.Home, error), who string) (lines string, said string, err error) {
	home, err := open()
	if err != nil {
		return "", "", fmt.Errorf("there is no place for a key: %w; -seal off does without one, and no secret can be "+
			"recorded then", err)
	}
	mine, err := home.Public()
	if err != nil {
		return "", "", err
	}
	said = "sealed to your key in " + home.IdentitiesFile()
	if len(mine) == 0 {
		made, err := home.NewIdentity()
		if err != nil {
			return "", "", err
		}
		mine, said = []string{made},
			"made a key: "+home.IdentitiesFile()+"; keep a copy of it, without it the ledger cannot be read"
	}
	mine = mine[len(mine)-1:]
	writer, err := home.WriterPublic()
	if errors.Is(err, fs.ErrNotExist) {
		writer, err = home.NewWriter()
	}
	if err != nil {
		return "", "", err
	}
	e := seal.NewEstate()
	if err := home.KeepEstate(e, mine); err != nil {
		return "", "", err
	}
	return sealingOf(mine, e.Pin(), writer+" "+keyName(who)), said, nil
}
