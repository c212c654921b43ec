package medina

import (
	"database/sql"
	"errors"

	"kasbah/core/value"
)

// held is what a change reads and writes: Medina's tables, or in a rehearsal what is kept in
// memory over them. What it gives nobody changes.
type held interface {
	// next counts a counter up.
	next(counter string) (int64, error)
	// thing reads one; nil where there is none.
	thing(id string) (*thing, error)
	// insert takes a new one. key is what it was made with, or "".
	insert(id string, is *thing, key string) error
	// change takes a new body, under the revision that is in it.
	change(body value.Map) error
	// erase deletes a thing with all that is noted of it but for its address. claim is what
	// it held alone, or "".
	erase(id, claim string) error

	// keep keeps the secrets of a thing, and secrets reads them; nil for none.
	keep(id string, secrets value.Map) error
	secrets(id string) (value.Map, error)
	// refers notes what a thing refers to, in place of what it did, and gives the first that
	// is not there.
	refers(id string, to []reference) (missing *reference, err error)
	// user is a thing that refers to one; "" for none.
	user(of string) (string, error)
	// claimed takes what no two of a type may have, in place of what the thing had, or says
	// who holds it. Each may be "" for nothing.
	claimed(typ, id, was, is string) (holder string, err error)
	// lastBelow is the thing in another one whose range begins last, at hi or below; "" for
	// none.
	lastBelow(parent string, hi int64) (id string, err error)
	// takeHost gives a thing a free number from 2 to last in a subnet, or 0 when there is
	// none, and giveHost gives it back.
	takeHost(subnet, id string, last int64) (int64, error)
	giveHost(subnet, id string) error
	// count is how many of a type a zone has.
	count(typ, zone string) (int64, error)
}

// thing is what there is of one.
type thing struct {
	typ    string
	body   value.Map
	zone   string // "" for one that is in no zone
	parent string // what its range is in; "" for one without
	lo, hi int64  // its range
}

// tables are Medina's, within one transaction, whose context theirs is: see database.update.
type tables struct {
	*sql.Tx
	prepared map[string]*sql.Stmt // where much is asked; nil for none
}

func (t *tables) exec(query string, args ...any) error {
	_, err := t.Tx.Exec(query, args...)
	return err
}

// row asks for one, by way of a statement that is prepared once where that is worth it.
func (t *tables) row(query string, args ...any) *sql.Row {
	if t.prepared == nil {
		return t.Tx.QueryRow(query, args...)
	}
	stmt, ok := t.prepared[query]
	if !ok {
		var err error
		if stmt, err = t.Tx.Prepare(query); err != nil { // which shows when it is asked
			return t.Tx.QueryRow(query, args...)
		}
		t.prepared[query] = stmt
	}
	return stmt.QueryRow(args...)
}

// each calls f for every row of a query.
func (t *tables) each(query string, f func(*sql.Rows) error, args ...any) error {
	rows, err := t.Tx.Query(query, args...)
	if err != nil {
		return err
	}
	defer rows.Close()
	for rows.Next() {
		if err := f(rows); err != nil {
			return err
		}
	}
	return rows.Err()
}

func (t *tables) next(counter string) (n int64, err error) {
	err = t.row(`insert into counters values (?, 1) on conflict (name) do update set n = n + 1 returning n`,
		counter).Scan(&n)
	return n, err
}

const thingColumns = `type, body, zone, parent, lo, hi`

// scanned is a row of thingColumns, with what scan reads before them.
func scanned(scan func(...any) error, before ...any) (*thing, error) {
	var is thing
	var body string
	var zone, parent sql.NullString
	var lo, hi sql.NullInt64
	if err := scan(append(before, &is.typ, &body, &zone, &parent, &lo, &hi)...); err != nil {
		return nil, err
	}
	var err error
	is.zone, is.parent, is.lo, is.hi = zone.String, parent.String, lo.Int64, hi.Int64
	is.body, err = decode(body)
	return &is, err
}

func (t *tables) thing(id string) (*thing, error) {
	is, err := scanned(t.row(`select `+thingColumns+` from things where id = ?`, id).Scan)
	if errors.Is(err, sql.ErrNoRows) {
		return nil, nil
	}
	return is, err
}

func (t *tables) insert(id string, is *thing, key string) error {
	var made, parent, lo, hi any
	if key != "" {
		made = key
	}
	if is.parent != "" {
		parent, lo, hi = is.parent, is.lo, is.hi
	}
	return t.exec(`insert into things (id, type, name, revision, body, parent, lo, hi, zone, key) values (?, ?, ?, 1, ?, ?, ?, ?, ?, ?)`,
		id, is.typ, is.body["name"], string(value.JSON(is.body)), parent, lo, hi, is.zone, made)
}

func (t *tables) change(body value.Map) error {
	return t.exec(`update things set body = ?, revision = ?, name = ? where id = ?`, string(value.JSON(body)),
		body["revision"], body["name"], body["id"])
}

func (t *tables) erase(id, _ string) error {
	for _, query := range []string{`delete from refs where thing = ?`, `delete from claims where thing = ?`,
		`delete from hidden where thing = ?`, `delete from things where id = ?`} {
		if err := t.exec(query, id); err != nil {
			return err
		}
	}
	return nil
}

func (t *tables) keep(id string, secrets value.Map) error {
	return t.exec(`insert into hidden values (?, ?) on conflict (thing) do update set body = excluded.body`, id,
		string(value.JSON(secrets)))
}

func (t *tables) secrets(id string) (value.Map, error) {
	var body string
	err := t.row(`select body from hidden where thing = ?`, id).Scan(&body)
	if errors.Is(err, sql.ErrNoRows) {
		return nil, nil
	}
	if err != nil {
		return nil, err
	}
	return decode(body)
}

func (t *tables) refers(id string, to []reference) (*reference, error) {
	if err := t.exec(`delete from refs where thing = ?`, id); err != nil {
		return nil, err
	}
	for _, r := range to {
		done, err := t.Tx.Exec(`insert into refs select ?, ?, id from things where id = ? and type = ?`, id,
			r.at, r.target, r.typ)
		if err != nil {
			return nil, err
		}
		if n, err := done.RowsAffected(); n == 0 {
			return &r, err
		}
	}
	return nil, nil
}

func (t *tables) user(of string) (id string, err error) {
	err = t.row(`select thing from refs where target = ? order by thing limit 1`, of).Scan(&id)
	if errors.Is(err, sql.ErrNoRows) {
		return "", nil
	}
	return id, err
}

func (t *tables) claimed(typ, id, was, is string) (holder string, err error) {
	if was != "" {
		if err := t.exec(`delete from claims where thing = ?`, id); err != nil {
			return "", err
		}
	}
	if is == "" {
		return "", nil
	}
	done, err := t.Tx.Exec(`insert into claims values (?, ?, ?) on conflict do nothing`, typ, is, id)
	if err != nil {
		return "", err
	}
	if n, err := done.RowsAffected(); n > 0 || err != nil {
		return "", err
	}
	return t.holder(typ, is)
}

// holder is the thing that has what no two of a type may have; "" for none.
func (t *tables) holder(typ, claim string) (id string, err error) {
	err = t.row(`select thing from claims where type = ? and claim = ?`, typ, claim).Scan(&id)
	if errors.Is(err, sql.ErrNoRows) {
		return "", nil
	}
	return id, err
}

func (t *tables) lastBelow(parent string, hi int64) (id string, err error) {
	err = t.row(`select id from things where parent = ? and lo <= ? order by lo desc limit 1`, parent, hi).Scan(&id)
	if errors.Is(err, sql.ErrNoRows) {
		return "", nil
	}
	return id, err
}

func (t *tables) takeHost(subnet, id string, last int64) (n int64, err error) {
	err = t.row(`insert into hosts select ?1, n + 1, ?2 from (select coalesce(max(n), 1) as n from hosts where subnet = ?1)
		where n < ?3 returning n`, subnet, id, last).Scan(&n)
	if !errors.Is(err, sql.ErrNoRows) {
		return n, err
	}
	err = t.row(`insert into hosts select ?1, c, ?3 from (select min(c) as c from (select 2 as c union all select n + 1 from hosts where subnet = ?1)
		where c <= ?2 and not exists (select 1 from hosts where subnet = ?1 and n = c)) where c is not null returning n`, subnet, last, id).Scan(&n) // the first gap
	if errors.Is(err, sql.ErrNoRows) {
		return 0, nil
	}
	return n, err
}

func (t *tables) giveHost(subnet, id string) error {
	return t.exec(`delete from hosts where subnet = ? and thing = ?`, subnet, id)
}

func (t *tables) count(typ, zone string) (n int64, err error) {
	err = t.row(`select count(*) from things where type = ? and zone = ?`, typ, zone).Scan(&n)
	return n, err
}
