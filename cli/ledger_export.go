package cli

import (
	"context"

	"kasbah/core/ledger"
	"kasbah/render"
)

func ledgerExportCommand() *command {
	return &command{
		Name: "ledger export", Short: "write all that is recorded as one JSON document, without secrets",
		Args: "[WARD…]", Estate: true,
		Long:     "Writes everything that is recorded, for other programs. Secrets are left out.",
		Examples: [2]string{"kasbah ledger export > recorded.json", "kasbah ledger export shore -env live"},
		Run: func(ctx context.Context, a *app, args []string) error {
			p, states, err := a.openStates(ctx, args)
			if err != nil {
				return err
			}
			doc := render.ExportDocument{Format: "kasbah.export/1", Estate: p.Estate.Name, Env: p.Env,
				Wards: []render.ExportWard{}}
			for _, w := range p.Wards {
				s := states[w]
				one := render.ExportWard{Ward: w, Entry: s.Seq, Hash: s.Hash, Published: s.Published, Reads: s.Reads,
					Resources: []*ledger.Record{}}
				for _, address := range s.Addresses() {
					r, err := s.Records[address].Record()
					if err != nil {
						return err
					}
					one.Resources = append(one.Resources, r.Shown())
				}
				doc.Wards = append(doc.Wards, one)
			}
			return a.document(doc)
		},
	}
}
