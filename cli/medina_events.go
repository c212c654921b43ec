package cli

import (
	"context"
	"flag"
	"strings"
	"time"

	"kasbah/core/driver"
	"kasbah/core/value"
	"kasbah/render"
)

func medinaEventsCommand() *command {
	var last int
	return medinaCommand(command{
		Name: "medina events", Short: "show who changed what in the simulated cloud, and when", Args: "[ID]",
		Long:     "Lists changes with their person and time, also those made by hand.",
		Examples: [2]string{"kasbah medina events -last 20", "kasbah medina events mac-0001 -json"},
		Flags:    func(fs *flag.FlagSet) { fs.IntVar(&last, "last", 0, "only the newest `events`") },
	}, 0, 1,
		func(ctx context.Context, a *app, h *hand, args []string) error {
			id := ""
			if len(args) == 1 {
				id = args[0]
			}
			doc := itemsDocument{Format: "kasbah.medina/1", Items: []value.Attributes{}}
			rows := [][]string{}
			for e, err := range h.Driver.(driver.Feed).Changes(ctx, "", id) {
				if err != nil {
					return err
				}
				doc.Items = append(doc.Items, value.Attributes{"at": e.At.Format(time.RFC3339Nano), "who": e.Who,
					"what": e.What, "type": e.Type, "id": e.ID, "paths": texts(e.Paths)})
				rows = append(rows, []string{e.At.Local().Format(time.DateTime), render.Clean(e.Who), e.What, e.Type,
					e.ID, strings.Join(e.Paths, ", ")})
			}
			if last > 0 && last < len(rows) {
				rows, doc.Items = rows[len(rows)-last:], doc.Items[len(doc.Items)-last:]
			}
			if a.json {
				return a.document(doc)
			}
			if len(rows) == 0 {
				a.out().Printf("Nothing has happened yet.\n")
			}
			a.out().Table(rows, nil)
			return nil
		})
}

func texts(list []string) []any {
	out := make([]any, len(list))
	for i, s := range list {
		out[i] = s
	}
	return out
}
