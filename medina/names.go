package medina

import (
	"context"
	"database/sql"
	"net/url"
)

// Named is a thing by its id and name.
type Named struct{ ID, Name string }

// Names lists the things of a type that the file of an embedded Medina holds, at most a thousand. It only
// reads, and makes no file.
func Names(ctx context.Context, path, typ string) ([]Named, error) {
	db, err := sql.Open("sqlite", "file:"+(&url.URL{Path: path}).EscapedPath()+"?mode=ro&_pragma=busy_timeout(100)")
	if err != nil {
		return nil, err
	}
	defer db.Close()
	rows, err := db.QueryContext(ctx, "select id, coalesce(name, '') from things where type = ? order by seq limit 1000",
		typ)
	if err != nil {
		return nil, err
	}
	defer rows.Close()
	var out []Named
	for rows.Next() {
		var n Named
		if err := rows.Scan(&n.ID, &n.Name); err != nil {
			return nil, err
		}
		out = append(out, n)
	}
	return out, rows.Err()
}
