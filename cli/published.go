package cli

import (
	"context"

	"kasbah/core/nearest"
	"kasbah/core/problem"
	"kasbah/core/value"
	"kasbah/render"
)

// publishedDocument is the JSON form of published values.
type publishedDocument struct {
	Format string                      `json:"format"`
	Env    string                      `json:"env"`
	Wards  map[string]value.Attributes `json:"wards"`
}

func publishedCommand() *command {
	return &command{
		Name: "published", Short: "show the values that wards publish, as the last run left them",
		Args: "[WARD [NAME]]", Estate: true,
		Long:     "Prints the values that wards publish for others, from the ledger. It reads no cloud.",
		Examples: [2]string{"kasbah published", "kasbah published shore quay_ids -json"},
		Run: func(ctx context.Context, a *app, args []string) error {
			if len(args) > 2 {
				return problem.Usage("published takes a ward and a name, not %d arguments", len(args))
			}
			p, states, err := a.openStates(ctx, args[:min(1, len(args))])
			if err != nil {
				return err
			}
			d := publishedDocument{Format: "kasbah.published/1", Env: p.Env, Wards: map[string]value.Attributes{}}
			for _, w := range p.Wards {
				all := value.Attributes{}
				for n, v := range states[w].Published {
					if len(args) < 2 || n == args[1] {
						all[n] = v
					}
				}
				if len(args) == 2 && len(all) == 0 {
					return &problem.UsageError{Message: w + " publishes no " + args[1], Hint: nearest.Hint(args[1],
						value.Keys(states[w].Published))}
				}
				d.Wards[w] = all
			}
			if a.json {
				return a.document(d)
			}
			if len(args) == 2 {
				a.out().Printf("%s\n", render.Clean(value.Plain(d.Wards[p.Wards[0]][args[1]])))
				return nil
			}
			var rows [][]string
			for _, w := range p.Wards {
				for _, n := range value.Keys(d.Wards[w]) {
					rows = append(rows, []string{w, n, render.Clean(value.Plain(d.Wards[w][n]))})
				}
			}
			if rows == nil {
				a.out().Printf("Nothing is published yet.\n")
			}
			a.out().Table(rows, nil)
			return nil
		},
	}
}
