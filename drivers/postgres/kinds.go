package postgres

import (
	"crypto/hmac"
	"crypto/pbkdf2"
	"crypto/rand"
	"crypto/sha256"
	"encoding/base64"
	"fmt"
	"slices"
	"strings"
	"unicode"

	"github.com/jackc/pgx/v5"
	"golang.org/x/text/unicode/norm"

	"kasbah/core/schema"
	"kasbah/core/value"
)

// kind is a type with the SQL that is behind it. Its Identify are the columns of
// its query that identify a thing.
type kind struct {
	*schema.Type
	inDatabase bool // its things are read and changed in the database they are in
	alone      bool // its statements go in no transaction

	query  string // all things, a column an attribute
	create func(quote, value.Map) ([]string, error)
	edit   func(q quote, was, to value.Map) ([]string, error)
	remove func(quote, value.Map) ([]string, error)
}

// quote writes names and texts into SQL where the server takes no parameters.
type quote struct{ c *pgx.Conn }

func (q quote) name(v any) string { return pgx.Identifier{fmt.Sprint(v)}.Sanitize() }

func (q quote) text(v any) (string, error) {
	s, err := q.c.PgConn().EscapeString(fmt.Sprint(v))
	return "'" + s + "'", err
}

func num(n float64) *float64 { return &n }
func length(n int) *int      { return &n }

const maxName = 63 // bytes of a name that PostgreSQL keeps

func named(help string) *schema.Attribute {
	return &schema.Attribute{Name: "name", Help: help, Kind: schema.Text, Fixed: true, Required: true,
		MinLength: length(1), MaxLength: length(maxName)}
}

func refers(name, help, to string, required bool) *schema.Attribute {
	return &schema.Attribute{Name: name, Help: help, Kind: schema.Text, Refers: to, Fixed: required, Required: required,
		MaxLength: length(200)}
}

func flag(name, help string, is, security bool) *schema.Attribute {
	return &schema.Attribute{Name: name, Help: help, Kind: schema.Bool, Default: is, HasDefault: true,
		Security: security}
}

func output(name, help string, k schema.Kind) *schema.Attribute {
	return &schema.Attribute{Name: name, Help: help, Kind: k, Output: true}
}

func kinds() []*kind {
	list := []*kind{roleKind(), membershipKind(), databaseKind(), schemaKind(), extensionKind(), grantKind()}
	for _, k := range list {
		k.ID, k.UniqueName = k.Identify[0], true
		if len(k.Identify) == 1 {
			continue
		}
		k.ID = "id"
		k.Attributes = append(k.Attributes, output("id", "what identifies it", schema.Text))
	}
	return list
}

// roleWords are the words of CREATE ROLE for what is true and false.
var roleWords = map[string][2]string{
	"login": {"LOGIN", "NOLOGIN"}, "create_databases": {"CREATEDB", "NOCREATEDB"}, "create_roles": {"CREATEROLE",
		"NOCREATEROLE"},
	"inherit": {"INHERIT", "NOINHERIT"}, "replication": {"REPLICATION", "NOREPLICATION"},
}

func roleKind() *kind {
	return &kind{
		Type: &schema.Type{Name: "role", Help: "somebody who may do something, or a group of them",
			Identify: []string{"name"}, Attributes: []*schema.Attribute{
				named("what it is called"),
				flag("login", "whether it may connect", false, true),
				{Name: "password", Help: "what it connects with", Kind: schema.Text, Secret: true, MinLength: length(1),
					MaxLength: length(200)},
				flag("create_databases", "whether it may make databases", false, true),
				flag("create_roles", "whether it may make roles", false, true),
				flag("inherit", "whether it may do what its groups may", true, false),
				flag("replication", "whether it may read the stream of all changes", false, true),
				{Name: "connections", Help: "how many it may have at once; -1 for no bound", Kind: schema.Int, Min: num(-1),
					Max: num(100000), Default: int64(-1), HasDefault: true},
			}},
		query: `select rolname as name, rolcanlogin as login, rolcreatedb as create_databases, rolcreaterole as create_roles,
			rolinherit as inherit, rolreplication as replication, rolconnlimit as connections from pg_roles where rolname !~ '^pg_'`,
		create: func(q quote, is value.Map) ([]string, error) {
			options, err := roleOptions(q, is)
			return []string{"CREATE ROLE " + q.name(is["name"]) + options}, err
		},
		edit: func(q quote, was, to value.Map) ([]string, error) {
			options, err := roleOptions(q, to)
			if options == "" {
				return nil, err
			}
			return []string{"ALTER ROLE " + q.name(was["name"]) + options}, err
		},
		remove: func(q quote, was value.Map) ([]string, error) {
			return []string{"DROP ROLE " + q.name(was["name"])}, nil
		},
	}
}

func roleOptions(q quote, is value.Map) (string, error) {
	var b strings.Builder
	for _, name := range value.Keys(is) {
		v := is[name]
		if words, ok := roleWords[name]; ok {
			b.WriteString(" " + words[map[bool]int{true: 0, false: 1}[v == true]])
		}
		switch name {
		case "connections":
			fmt.Fprintf(&b, " CONNECTION LIMIT %d", v)
		case "password":
			if v == nil {
				b.WriteString(" PASSWORD NULL")
				continue
			}
			kept, err := verifier(v.(string))
			if err != nil {
				return "", err
			}
			text, err := q.text(kept)
			if err != nil {
				return "", err
			}
			b.WriteString(" PASSWORD " + text)
		}
	}
	return b.String(), nil
}

// verifier is what the server keeps of a password (RFC 5803). It is made here, so
// that the password itself is in no statement, and in no log of the server.
func verifier(password string) (string, error) {
	if !settled(password) {
		return "", wrong("password", "some of its characters can be written in several ways, and clients do not "+
			"agree which (RFC 4013, RFC 8265): choose one without them")
	}
	salt := make([]byte, 16)
	if _, err := rand.Read(salt); err != nil {
		return "", err
	}
	const rounds = 4096
	salted, err := pbkdf2.Key(sha256.New, password, salt, rounds, sha256.Size)
	if err != nil {
		return "", wrong("password", "it cannot be used as a password")
	}
	key := func(words string) []byte {
		h := hmac.New(sha256.New, salted)
		h.Write([]byte(words))
		return h.Sum(nil)
	}
	stored := sha256.Sum256(key("Client Key"))
	encode := base64.StdEncoding.EncodeToString
	return fmt.Sprintf("SCRAM-SHA-256$%d:%s$%s:%s", rounds, encode(salt), encode(stored[:]), encode(key("Server Key"))),
		nil
}

// settled reports whether every client makes the same of a password before it uses
// it: they map spaces and what is not seen, and normalise, some by NFKC.
func settled(password string) bool {
	for _, r := range password {
		if r > unicode.MaxASCII && (unicode.Is(unicode.Zs, r) || unicode.In(r, unicode.Cf,
			unicode.Variation_Selector) || r == '\u034f') {
			return false
		}
	}
	return norm.NFKC.IsNormalString(password)
}

func membershipKind() *kind {
	grant := func(q quote, m value.Map) string {
		s := "GRANT " + q.name(m["group"]) + " TO " + q.name(m["member"])
		if m["admin"] == true {
			s += " WITH ADMIN OPTION"
		}
		return s
	}
	return &kind{
		Type: &schema.Type{Name: "membership", Help: "a role that belongs to another one, and may do what it may",
			Identify: []string{"group", "member"}, Attributes: []*schema.Attribute{
				refers("group", "the role that it belongs to", "role", true),
				refers("member", "the role that belongs", "role", true),
				flag("admin", "whether it may take in others", false, true),
			}},
		query: `select g.rolname as "group", m.rolname as member, bool_or(a.admin_option) as admin from pg_auth_members a
			join pg_roles g on g.oid = a.roleid join pg_roles m on m.oid = a.member where m.rolname !~ '^pg_' group by 1, 2`,
		create: func(q quote, is value.Map) ([]string, error) { return []string{grant(q, is)}, nil },
		edit: func(q quote, was, to value.Map) ([]string, error) {
			if to["admin"] == true {
				return []string{"GRANT " + q.name(was["group"]) + " TO " + q.name(was["member"]) +
					" WITH ADMIN OPTION"}, nil
			}
			return []string{"REVOKE ADMIN OPTION FOR " + q.name(was["group"]) + " FROM " + q.name(was["member"])}, nil
		},
		remove: func(q quote, was value.Map) ([]string, error) {
			return []string{"REVOKE " + q.name(was["group"]) + " FROM " + q.name(was["member"])}, nil
		},
	}
}

func databaseKind() *kind {
	return &kind{
		alone: true,
		Type: &schema.Type{Name: "database", Help: "a database of the server", HoldsData: true,
			Identify: []string{"name"}, Attributes: []*schema.Attribute{
				named("what it is called"),
				refers("owner", "the role that it belongs to; who makes it, when left out", "role", false),
				{Name: "encoding", Help: "how texts are written", Kind: schema.Text, Fixed: true,
					OneOf: []any{"UTF8", "LATIN1", "SQL_ASCII"}, Default: "UTF8", HasDefault: true},
				{Name: "connections", Help: "how many there may be at once; -1 for no bound", Kind: schema.Int,
					Min: num(-1), Max: num(100000), Default: int64(-1), HasDefault: true},
			}},
		query: `select datname as name, r.rolname as owner, pg_encoding_to_char(encoding) as encoding, datconnlimit as connections
			from pg_database d join pg_roles r on r.oid = d.datdba where not datistemplate and datallowconn`,
		create: func(q quote, is value.Map) ([]string, error) {
			encoding, err := q.text(is["encoding"])
			s := "CREATE DATABASE " + q.name(is["name"]) + " TEMPLATE template0 ENCODING " + encoding +
				fmt.Sprintf(" CONNECTION LIMIT %d", is["connections"])
			if is["encoding"] != "UTF8" {
				s += " LC_COLLATE 'C' LC_CTYPE 'C'" // others fit one encoding only
			}
			if owner, ok := is["owner"]; ok {
				s += " OWNER " + q.name(owner)
			}
			return []string{s}, err
		},
		edit: func(q quote, was, to value.Map) (out []string, _ error) {
			if n, ok := to["connections"]; ok {
				out = append(out, fmt.Sprintf("ALTER DATABASE %s CONNECTION LIMIT %d", q.name(was["name"]), n))
			}
			if owner, ok := to["owner"]; ok {
				out = append(out, "ALTER DATABASE "+q.name(was["name"])+" OWNER TO "+ownerOr(q, owner))
			}
			return out, nil
		},
		remove: func(q quote, was value.Map) ([]string, error) {
			return []string{"DROP DATABASE " + q.name(was["name"])}, nil
		},
	}
}

// ownerOr is a role's name, or whoever asks where none is given any more.
func ownerOr(q quote, owner any) string {
	if owner == nil {
		return "CURRENT_USER"
	}
	return q.name(owner)
}

func schemaKind() *kind {
	return &kind{
		inDatabase: true,
		Type: &schema.Type{Name: "schema", Help: "a namespace in a database", HoldsData: true,
			Identify: []string{"database", "name"}, Attributes: []*schema.Attribute{
				{Name: "database", Help: "the database it is in", Kind: schema.Text, Refers: "database", Fixed: true,
					Required: true},
				named("what it is called"),
				refers("owner", "the role that it belongs to; who makes it, when left out", "role", false),
			}},
		query: `select current_database()::text as database, nspname as name, r.rolname as owner from pg_namespace n join pg_roles r on r.oid = n.nspowner
			where nspname !~ '^pg_' and nspname <> 'information_schema'`,
		create: func(q quote, is value.Map) ([]string, error) {
			s := "CREATE SCHEMA " + q.name(is["name"])
			if owner, ok := is["owner"]; ok {
				s += " AUTHORIZATION " + q.name(owner)
			}
			return []string{s}, nil
		},
		edit: func(q quote, was, to value.Map) (out []string, _ error) {
			if owner, ok := to["owner"]; ok {
				out = append(out, "ALTER SCHEMA "+q.name(was["name"])+" OWNER TO "+ownerOr(q, owner))
			}
			return out, nil
		},
		remove: func(q quote, was value.Map) ([]string, error) {
			return []string{"DROP SCHEMA " + q.name(was["name"])}, nil
		},
	}
}

func extensionKind() *kind {
	return &kind{
		inDatabase: true,
		Type: &schema.Type{Name: "extension", Help: "something that a database can do beside what all can",
			Identify: []string{"database", "name"}, Attributes: []*schema.Attribute{
				{Name: "database", Help: "the database it is in", Kind: schema.Text, Refers: "database", Fixed: true,
					Required: true},
				named("what it is called"),
				{Name: "version", Help: "which one; the server's own choice when left out", Kind: schema.Text,
					MaxLength: length(60)},
				{Name: "schema", Help: "the name of the schema that its things are in; the first one when left out",
					Kind: schema.Text, MaxLength: length(maxName), Fixed: true},
			}},
		query: `select current_database()::text as database, extname as name, extversion as version, nspname as schema from pg_extension e join pg_namespace n on n.oid = e.extnamespace
			where extname <> 'plpgsql'`,
		create: func(q quote, is value.Map) ([]string, error) {
			s := "CREATE EXTENSION " + q.name(is["name"])
			if v, ok := is["schema"]; ok {
				s += " SCHEMA " + q.name(v)
			}
			if v, ok := is["version"]; ok {
				s += " VERSION " + q.name(v)
			}
			return []string{s}, nil
		},
		edit: func(q quote, was, to value.Map) ([]string, error) {
			s := "ALTER EXTENSION " + q.name(was["name"]) + " UPDATE"
			if v := to["version"]; v != nil {
				s += " TO " + q.name(v)
			}
			return []string{s}, nil
		},
		remove: func(q quote, was value.Map) ([]string, error) {
			return []string{"DROP EXTENSION " + q.name(was["name"])}, nil
		},
	}
}

// rights are what a role may be granted on what.
var rights = map[string][]string{
	"database": {"connect", "create", "temporary"},
	"schema":   {"create", "usage"},
	"table":    {"delete", "insert", "references", "select", "trigger", "truncate", "update"},
}

const grantName = "grant"

func grantKind() *kind {
	var all []any
	for _, r := range slices.Compact(slices.Sorted(slices.Values(slices.Concat(rights["database"], rights["schema"],
		rights["table"])))) {
		all = append(all, r)
	}
	return &kind{
		inDatabase: true,
		Type: &schema.Type{Name: grantName, Help: "what a role may do with a database, a schema or a table",
			Identify: []string{"database", "role", "on", "name"}, Attributes: []*schema.Attribute{
				{Name: "database", Help: "the database it is in, or that it is about", Kind: schema.Text,
					Refers: "database", Fixed: true, Required: true},
				refers("role", "who may", "role", true),
				{Name: "on", Help: "what it is about", Kind: schema.Text, Fixed: true, Required: true,
					OneOf: []any{"database", "schema", "table"}},
				{Name: "name", Help: "the schema, the table as SCHEMA.TABLE, or the database once more", Kind: schema.Text,
					Fixed: true, Required: true, MinLength: length(1), MaxLength: length(2*maxName + 1)},
				{Name: "rights", Help: "what it may do, in the order of the alphabet", Kind: schema.List, Security: true,
					Required: true, MinLength: length(1), MaxLength: length(7), Elem: &schema.Attribute{Kind: schema.Text,
						OneOf: all}},
			}},
		query: `with acls as (
				select 'database' as "on", datname::text as name, coalesce(datacl, acldefault('d', datdba)) as acl, datdba as owner from pg_database where datname = current_database()
				union all select 'schema', nspname::text, nspacl, nspowner from pg_namespace where nspname !~ '^pg_' and nspname <> 'information_schema'
				union all select 'table', nspname || '.' || relname, relacl, relowner from pg_class c join pg_namespace n on n.oid = c.relnamespace
					where relkind in ('r', 'p', 'v', 'm', 'f') and nspname !~ '^pg_' and nspname <> 'information_schema')
			select current_database()::text as database, r.rolname as role, a."on", a.name, array_agg(lower(x.privilege_type) order by lower(x.privilege_type)) as rights
			from acls a cross join lateral aclexplode(a.acl) x join pg_roles r on r.oid = x.grantee
			where x.grantee <> a.owner and lower(x.privilege_type) = any (array['` + strings.Join(texts(all), "','") + `']) group by 1, 2, 3, 4`,
		create: func(q quote, is value.Map) ([]string, error) {
			if err := grantable(is, is["rights"]); err != nil {
				return nil, err
			}
			return []string{"GRANT " + words(is["rights"]) + " ON " + target(q, is) + " TO " + q.name(is["role"])}, nil
		},
		edit: func(q quote, was, to value.Map) (out []string, _ error) {
			if err := grantable(was, to["rights"]); err != nil {
				return nil, err
			}
			wanted, _ := to["rights"].([]any)
			for _, r := range was["rights"].([]any) {
				if !slices.Contains(wanted, r) {
					out = append(out, "REVOKE "+words([]any{r})+" ON "+target(q, was)+" FROM "+q.name(was["role"]))
				}
			}
			return append(out, "GRANT "+words(wanted)+" ON "+target(q, was)+" TO "+q.name(was["role"])), nil
		},
		remove: func(q quote, was value.Map) ([]string, error) {
			return []string{"REVOKE " + words(was["rights"]) + " ON " + target(q, was) + " FROM " +
				q.name(was["role"])}, nil
		},
	}
}

// grantable refuses rights that what they are about does not have, as far as that is
// known.
func grantable(is value.Map, wanted any) error {
	on, _ := is["on"].(string)
	if rights[on] == nil {
		return nil
	}
	list, _ := wanted.([]any)
	before := ""
	for i, v := range list {
		r, ok := v.(string)
		if !ok {
			continue
		}
		path := fmt.Sprintf("rights[%d]", i)
		if !slices.Contains(rights[on], r) {
			return wrong(path, "%s has no right %s; it has %s", schema.WithArticle(on), r, strings.Join(rights[on],
				", "))
		}
		if before >= r {
			return wrong(path, "rights must be in alphabetical order, each once, and %s comes after %s", r, before)
		}
		before = r
	}
	name, known := is["name"].(string)
	database, in := is["database"].(string)
	switch {
	case known && in && on == "database" && name != database:
		return wrong("name", "on a database, name is the database's own: %s", database)
	case known && on == "table" && strings.Count(name, ".") != 1:
		return wrong("name", "a table is named as SCHEMA.TABLE")
	}
	return nil
}

// words are rights as SQL writes them. They come from the schema's own list.
func words(list any) string {
	var out []string
	for _, r := range list.([]any) {
		out = append(out, strings.ToUpper(r.(string)))
	}
	return strings.Join(out, ", ")
}

func target(q quote, is value.Map) string {
	if is["on"] == "table" {
		room, table, _ := strings.Cut(is["name"].(string), ".")
		return "TABLE " + pgx.Identifier{room, table}.Sanitize()
	}
	return strings.ToUpper(is["on"].(string)) + " " + q.name(is["name"])
}

func texts(list []any) []string {
	out := make([]string, len(list))
	for i := range list {
		out[i] = list[i].(string)
	}
	return out
}
