package session

import (
	"context"
	"os"
	"strings"

	"kasbah/core/problem"
	"kasbah/medina"
)

// HandRequest says which Medina a person reaches for, and as whom.
type HandRequest struct {
	As    string
	API   string // the URL of one that runs on its own; "" for the estate's
	Token string // with API: the file that holds the person's token
	CA    string // with API: a file of certificates
	Named string // the estate's driver; "" for the first of kind medina
	Path  func(name string) string
}

// MedinaByHand connects to a Medina for a person who acts. open opens the estate, where that is asked.
func MedinaByHand(ctx context.Context, r HandRequest, open func() (*Session, error)) (at medina.Settings,
	h *medina.Hand, err error) {
	switch {
	case r.API != "":
		at = medina.Settings{API: r.API}
		if r.CA != "" {
			at.CA = r.Path(r.CA)
		}
		if r.Token != "" {
			at.Token = func(context.Context, bool) (string, error) { // when it is first needed
				body, err := os.ReadFile(r.Path(r.Token))
				return strings.TrimSpace(string(body)), err
			}
		}
	case r.Token != "" || r.CA != "":
		return at, nil, problem.Usage("-token and -ca belong to -api; the estate's driver has them in kasbah.toml")
	default:
		s, err := open()
		if err != nil {
			return at, nil, err
		}
		if at, err = s.Medina(ctx, r.Named); err != nil {
			return at, nil, err
		}
	}
	h, err = at.ByHand(ctx, r.As)
	return at, h, err
}
