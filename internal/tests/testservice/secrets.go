package testservice

import (
	"context"
	"fmt"
	"net/url"
	"regexp"
	"time"

	"github.com/jackc/pgx/v5"
)

// secretForms are what secrets look like, wherever they turn up.
var secretForms = map[string]*regexp.Regexp{
	"a token of an operator": regexp.MustCompile(`kamerad-[a-z2-7]{26}`),
	"a ticket":               regexp.MustCompile(`eyJ[\w-]{8,}\.eyJ[\w-]{8,}\.[\w-]{20,}`),
	"a private key":          regexp.MustCompile(`"(d|k)":\s*"[\w-]{40,}`),
	"a password in a URL":    regexp.MustCompile(`postgres(ql)?://[^\s:@/]+:[^\s@/]+@`),
	"an authorization":       regexp.MustCompile(`(?i)authorization[:=]\s*(bearer|basic)\s+\S{8}`),
}

// findSecrets returns what secrets stand in a text, none of which it repeats.
func findSecrets(text string) (found []string) {
	for what, form := range secretForms {
		if form.MatchString(text) {
			found = append(found, what)
		}
	}
	return found
}

// checkSecrets fails a test whose service has logged or stored a secret. Every test that starts a service ends with it.
func (p *Process) checkSecrets() {
	texts := map[string]string{"the log": p.Log()}
	for table, text := range p.storedTexts() {
		texts["the table "+table] = text
	}
	u, err := url.Parse(p.Database)
	if err != nil {
		p.t.Errorf("read the database's URL: %s", err)
		return
	}
	password, _ := u.User.Password()
	for where, text := range texts {
		for _, what := range findSecrets(text) {
			p.t.Errorf("%s stands in %s of a service", what, where)
		}
		if len(password) > 8 && regexp.MustCompile(regexp.QuoteMeta(password)).MatchString(text) {
			p.t.Errorf("the database's password stands in %s of a service", where)
		}
	}
}

// maxSearched is how large a table may be to be searched, in bytes: recordings of long sessions are left out.
const maxSearched = 4 << 20

// storedTexts returns what stands in the service's tables; nothing when its database is gone.
func (p *Process) storedTexts() map[string]string {
	ctx, cancel := context.WithTimeout(context.Background(), 10*time.Second)
	defer cancel()
	conn, err := pgx.Connect(ctx, p.Database)
	if err != nil {
		return nil
	}
	defer conn.Close(ctx)
	const small = `select relname::text from pg_class
		where relkind = 'r' and relnamespace = 'public'::regnamespace and pg_total_relation_size(oid) < $1`
	rows, err := conn.Query(ctx, small, maxSearched)
	if err != nil {
		return nil
	}
	tables, err := pgx.CollectRows(rows, pgx.RowTo[string])
	if err != nil {
		return nil
	}
	out := map[string]string{}
	for _, table := range tables {
		var text *string
		query := fmt.Sprintf("select string_agg(t::text, E'\\n') from %s t", pgx.Identifier{table}.Sanitize())
		if conn.QueryRow(ctx, query).Scan(&text) == nil && text != nil {
			out[table] = *text
		}
	}
	return out
}
