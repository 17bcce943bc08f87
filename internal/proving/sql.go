package proving

import (
	"context"
	"crypto/x509"
	"database/sql"
	"encoding/json"
	"errors"
	"fmt"
	"maps"
	"regexp"
	"slices"
	"strings"
	"time"

	"github.com/go-sql-driver/mysql"
	"github.com/jackc/pgx/v5"
	"github.com/jackc/pgx/v5/stdlib"

	"lanternfield/internal/core/bounded"
	"lanternfield/internal/core/field"
	"lanternfield/internal/core/logline"
)

// mostRows is how many rows of an answer are read.
const mostRows = 1000

// sqlStep sends one statement, judges the answer, and gives what is captured.
func sqlStep(ctx context.Context, within time.Duration, me field.MemberName, step field.ProofStep, authority string) (map[string]string, error) {
	ctx, cancel := context.WithTimeoutCause(ctx, within, fmt.Errorf("no answer within %s", field.Span(within)))
	defer cancel()
	rows, err := query(ctx, step.SQL, authority)
	if err != nil {
		return nil, plainly(ctx, err)
	}
	row := map[string]any{}
	if len(rows) > 0 {
		row = rows[0].(map[string]any)
	}
	env := map[string]any{"rows": rows, "row": row, "me": string(me)}
	if step.Expect != "" {
		ok, err := evaluate(ctx, step.Expect, env)
		if err != nil {
			return nil, fmt.Errorf("the answer was %s, and `%s` cannot be evaluated on it: %s", shown(rows), step.Expect, firstLine(err))
		}
		if ok != true {
			return nil, fmt.Errorf("the answer was %s, and `%s` does not hold", shown(rows), step.Expect)
		}
	}
	captured := map[string]string{}
	for _, name := range slices.Sorted(maps.Keys(step.Capture)) {
		value, err := evaluate(ctx, step.Capture[name], env)
		if err != nil || value == nil {
			return nil, fmt.Errorf("the answer was %s, and `%s` finds no %s in it", shown(rows), step.Capture[name], name)
		}
		captured[name] = fmt.Sprint(value)
	}
	return captured, nil
}

// open makes ready to speak to a database. Several statements may be sent at once. Where the URL asks for TLS with a certificate that is verified,
// the authority vouches for it.
func open(call *field.SQLCall, authority string) (*sql.DB, error) {
	var pool *x509.CertPool
	if authority != "" {
		pool = x509.NewCertPool()
		pool.AppendCertsFromPEM([]byte(authority))
	}
	if call.Driver == "mysql" {
		config, err := mysql.ParseDSN(call.URL)
		if err != nil {
			return nil, err
		}
		if config.TLS != nil && !config.TLS.InsecureSkipVerify && pool != nil {
			config.TLS.RootCAs = pool
		}
		connector, err := mysql.NewConnector(config)
		if err != nil {
			return nil, err
		}
		return sql.OpenDB(connector), nil
	}
	config, err := pgx.ParseConfig(call.URL)
	if err != nil {
		return nil, err
	}
	if config.TLSConfig != nil && !config.TLSConfig.InsecureSkipVerify && pool != nil {
		config.TLSConfig.RootCAs = pool
	}
	config.DefaultQueryExecMode = pgx.QueryExecModeSimpleProtocol
	return stdlib.OpenDB(*config), nil
}

// query sends a statement and reads what comes.
func query(ctx context.Context, call *field.SQLCall, authority string) ([]any, error) {
	db, err := open(call, authority)
	if err != nil {
		return nil, err
	}
	defer db.Close()
	db.SetMaxOpenConns(1)
	found, err := db.QueryContext(ctx, call.Statement)
	if err != nil {
		return nil, err
	}
	defer found.Close()
	columns, err := found.Columns()
	if err != nil {
		return nil, err
	}
	rows := []any{}
	for found.Next() {
		if len(rows) >= mostRows {
			return nil, fmt.Errorf("it gives more than %d rows", mostRows)
		}
		values := make([]any, len(columns))
		into := make([]any, len(columns))
		for i := range values {
			into[i] = &values[i]
		}
		if err := found.Scan(into...); err != nil {
			return nil, err
		}
		row := map[string]any{}
		for i, name := range columns {
			row[name] = plainValue(values[i])
		}
		rows = append(rows, row)
	}
	return rows, found.Err()
}

// plainValue gives a column's value as expressions know values: numbers, texts, truths, or nothing.
func plainValue(v any) any {
	switch x := v.(type) {
	case []byte:
		return string(x)
	case int64:
		return int(x)
	case float32:
		return float64(x)
	case time.Time:
		return x.Format(time.RFC3339Nano)
	}
	return v
}

func evaluate(ctx context.Context, text string, env map[string]any) (any, error) {
	e, err := bounded.Compile(text)
	if err != nil {
		return nil, err
	}
	return e.Run(ctx, env)
}

// shown words an answer, shortened.
func shown(rows []any) string {
	data, _ := json.Marshal(rows)
	if text := logline.Clean(string(data)); len(text) > 300 {
		return text[:300] + "…"
	} else {
		return text
	}
}

func firstLine(err error) string {
	line, _, _ := strings.Cut(err.Error(), "\n")
	return line
}

// credential is what must not be shown of where a database is.
var credential = regexp.MustCompile(`//[^/@ ]*@|password=\S+|^[^ ]*@tcp`)

// plainly words an error of a driver, without what is secret in it.
func plainly(ctx context.Context, err error) error {
	if cause := context.Cause(ctx); cause != nil && !errors.Is(cause, context.Canceled) {
		return cause
	}
	return errors.New(credential.ReplaceAllString(logline.Clean(err.Error()), "//…@"))
}
