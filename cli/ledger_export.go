package cli

import (
	"context"

	"kasbah/session"
)

func ledgerExportCommand() *command {
	return &command{
		Name: "ledger export", Short: "write all that is recorded as one JSON document, without secrets",
		Args: "[WARD…]", Estate: true,
		Long:     "Writes everything that is recorded, for other programs. Secrets are left out.",
		Examples: [2]string{"kasbah ledger export > recorded.json", "kasbah ledger export shore -env live"},
		Run: onWards(func(ctx context.Context, a *app, s *session.Session) error {
			d, err := s.Export(ctx)
			if err != nil {
				return err
			}
			return a.document(d)
		}),
	}
}
