package cli

import (
	"context"
	"strings"

	"kasbah/core/driver"
	"kasbah/core/value"
	"kasbah/render"
)

func medinaListCommand() *command {
	return medinaCommand(command{
		Name: "medina list", Short: "list what the simulated cloud holds", Args: "[TYPE]",
		Long:     "Lists things as the cloud shows them, also those that Kasbah does not manage.",
		Examples: [2]string{"kasbah medina list", "kasbah medina list machine -json"},
	}, 0, 1,
		func(ctx context.Context, a *app, h *hand, args []string) error {
			types := h.Catalog.Names()
			if len(args) == 1 {
				t, err := h.Type(args[0])
				if err != nil {
					return err
				}
				types = []string{t.Name}
			}
			doc := itemsDocument{Format: "kasbah.medina/1", Items: []value.Attributes{}}
			rows := [][]string{{"type", "id", "name", "attributes"}}
			for _, typ := range types {
				for l, err := range h.Driver.List(ctx, typ) {
					if err != nil {
						return err
					}
					doc.Items = append(doc.Items, item(typ, l))
					rows = append(rows, row(typ, l))
				}
			}
			if a.json {
				return a.document(doc)
			}
			if len(rows) == 1 {
				a.out().Printf("Medina is empty.\n")
				return nil
			}
			a.out().Table(rows, a.out().HeadGrey)
			return nil
		})
}

func row(typ string, l driver.Live) []string {
	rest := value.CloneMap(l.Attributes)
	name, _ := rest["name"].(string)
	delete(rest, "name")
	delete(rest, "id")
	return []string{typ, l.ID, render.Clean(name), render.Clean(strings.Trim(value.Plain(rest), "{}"))}
}
