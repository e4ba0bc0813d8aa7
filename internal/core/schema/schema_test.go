package schema

import (
	"testing"

	"github.com/stretchr/testify/assert"
)

func TestRuns(t *testing.T) {
	for sql, want := range map[string]string{
		"CREATE TRIGGER a AFTER INSERT ON b BEGIN SELECT 1; END":                         "a trigger",
		"create /* x */ temp -- y\n trigger a":                                           "a trigger",
		"CREATE VIEW v AS SELECT hex(zeroblob(9)) FROM t":                                "a view that calls hex",
		"CREATE VIEW v AS SELECT \"hex\"(x) FROM t":                                      "a view that calls hex",
		"CREATE VIEW v AS SELECT hex /* ) */ (x) FROM t":                                 "a view that calls hex",
		"CREATE VIEW v AS WITH RECURSIVE r AS (SELECT 1 UNION SELECT 1) SELECT * FROM r": "a view that goes on by itself",
		"CREATE TABLE t (a TEXT DEFAULT (load_extension('x')))":                          "a table that calls load_extension",
		"CREATE INDEX i ON t (readfile(a))":                                              "an index that calls readfile",
		"CREATE VIRTUAL TABLE f USING fts3(tokenize=x, a DEFAULT eval('x'))":             "a table that calls eval",

		"CREATE VIEW v AS SELECT a, count(*) FROM t WHERE b IN (1, 2) GROUP BY a":         "",
		"CREATE VIEW v (a, b) AS SELECT a, b FROM t JOIN u USING (a)":                     "",
		"CREATE VIEW v AS SELECT 'hex(x)' AS x, \"trigger\" FROM t -- hex(1)\n":           "",
		"CREATE TABLE t (a VARCHAR(20), b DECIMAL(10, 2) CHECK (b > 0), PRIMARY KEY (a))": "",
		"CREATE TABLE trigger_log (a)":                                                    "",
		"CREATE UNIQUE INDEX i ON t (lower(a))":                                           "",
		"CREATE VIRTUAL TABLE f USING fts5(a)":                                            "",
		"":                                                                                "",
		"CREATE":                                                                          "",
		"SELECT hex(1)":                                                                   "",
	} {
		assert.Equal(t, want, Runs(sql), sql)
		assert.Equal(t, want == "a trigger", Trigger(sql), sql)
	}
}

func FuzzRuns(f *testing.F) {
	f.Add("CREATE VIEW v AS SELECT 'a' || \"b\"(1) /* x */ -- y\n")
	f.Fuzz(func(_ *testing.T, sql string) { Runs(sql) })
}
