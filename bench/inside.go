package main

import (
	"bufio"
	"compress/gzip"
	"context"
	"database/sql"
	"errors"
	"fmt"
	"io"
	"os"
	"time"

	_ "modernc.org/sqlite"
)

// insideDescription adds saves whose content is changed: one XML, one JSON and one of blocks.
const insideDescription = description + `[mod.adds]
prefix = "{id}:"
[[save]]
id = "xml"
unit = "file"
folder = "saves"
name = "{name}.xs"
[save.file.all]
path = "."
form = "xml"
[save.field]
title = { in = "all", at = "/w/@title" }
coins = { in = "all", at = "/w/@coins", as = "int", set = true }
[[save]]
id = "json"
unit = "file"
folder = "saves"
name = "{name}.js"
[save.file.all]
path = "."
form = "json"
[save.field]
title = { in = "all", at = "$.title" }
coins = { in = "all", at = "$.coins", as = "int", set = true }
[[save]]
id = "blocks"
unit = "file"
folder = "saves"
name = "{name}.bl"
[save.file.all]
path = "."
form = "blocks"
[save.field]
title = { in = "all", at = "$.w[0].title" }
coins = { in = "all", at = "$.w[0].coins", as = "int", set = true }
[[save]]
id = "packed"
unit = "file"
folder = "saves"
name = "{name}.gz"
[save.file.all]
path = "."
form = "json"
layers = ["gzip"]
[save.field]
title = { in = "all", at = "$.title" }
coins = { in = "all", at = "$.coins", as = "int", set = true }
[[save]]
id = "rows"
unit = "file"
folder = "saves"
name = "{name}.db"
[save.file.all]
path = "."
form = "sqlite"
[save.field]
title = { in = "all", at = "SELECT title FROM w WHERE id = 1" }
coins = { in = "all", at = "SELECT coins FROM w WHERE id = 1", as = "int", set = true }
[[references]]
save = "blocks"
in = "all"
at = "$.w[0].things[0].thing[*].of"
remove = ".."
[[references]]
save = "xml"
in = "all"
at = "/w/things/thing/@of"
remove = ".."
[[references]]
save = "json"
in = "all"
at = "$.things[*].of"
remove = ".."
[[section]]
id = "crew"
save = "xml"
in = "all"
at = "/w/crew"
[[section]]
id = "crew"
save = "json"
in = "all"
at = "$.crew"
[[section]]
id = "crew"
save = "blocks"
in = "all"
at = "$.w[0].crew"
`

// insideSize is how large a save is, in bytes, and insideThings how many things a mod has in it.
const (
	insideSize   = 300 << 20
	insideThings = 10_000
)

// insideSaves writes a large save of each form, and a small one to borrow from.
func insideSaves(b *bench) error {
	write := func(name string, size int, head, things, between, mid, row, tail string) error {
		f, err := os.Create(b.path(name))
		if err != nil {
			return err
		}
		w := bufio.NewWriterSize(f, 1<<20)
		n, _ := w.WriteString(head)
		for i := range insideThings {
			if i > 0 {
				_, _ = w.WriteString(between)
			}
			fmt.Fprintf(w, things, i)
		}
		_, _ = w.WriteString(mid)
		for i := 0; n < size; i++ {
			if i > 0 {
				_, _ = w.WriteString(between)
			}
			m, _ := fmt.Fprintf(w, row, i)
			n += m
		}
		if _, err := w.WriteString(tail); err != nil {
			return err
		}
		if err := w.Flush(); err != nil {
			return err
		}
		return f.Close()
	}
	for name, size := range map[string]int{"large": insideSize, "small": 1000} {
		err := write(name+".xs", size, "<?xml version=\"1.0\"?>\n<w title=\"Large\" coins=\"1\">\n <crew><one name=\"Ada of "+name+"\"/></crew>\n <things>\n", "  <thing id=\"%d\" of=\"moss:stone\"/>", "\n",
			"\n </things>\n <trees>\n", "  <tree row=\"%d\" wound=\"0.791\" fruit=\"21\"/>", "\n </trees>\n <last name=\"the end\"/>\n</w>\n")
		if err != nil {
			return err
		}
		err = write(name+".js", size, "{\n \"title\": \"Large\",\n \"coins\": 1,\n \"crew\": [{\"name\": \"Ada of "+name+"\"}],\n \"things\": [\n", "  {\"id\": %d, \"of\": \"moss:stone\"}", ",\n",
			"\n ],\n \"trees\": [\n", "  {\"row\": %d, \"wound\": 0.791, \"fruit\": 21}", "\n ],\n \"last\": \"the end\"\n}\n")
		if err != nil {
			return err
		}
		err = write(name+".bl", size, "[w]\n\ttitle = Large\n\tcoins = 1\n\t[crew]\n\t\tname = \"Ada of "+name+"\"\n\t[/crew]\n\t[things]\n", "\t\t[thing]\n\t\t\tid = %d\n\t\t\tof = moss:stone\n\t\t[/thing]\n", "",
			"\t[/things]\n\t[trees]\n", "\t\t[tree]\n\t\t\trow = %d\n\t\t\twound = 0.791\n\t\t\tfruit = 21\n\t\t[/tree]\n", "\t[/trees]\n\tlast = \"the end\"\n[/w]\n")
		if err != nil {
			return err
		}
	}
	return nil
}

// packedSaves makes of the large JSON one in gzip, and writes a database of 166 MB.
func packedSaves(b *bench) error {
	in, err := os.Open(b.path("large.js"))
	if err != nil {
		return err
	}
	defer in.Close()
	out, err := os.Create(b.path("large.gz"))
	if err != nil {
		return err
	}
	z, err := gzip.NewWriterLevel(out, gzip.BestSpeed)
	if err == nil {
		_, err = io.Copy(z, in)
	}
	if err := errors.Join(err, z.Close(), out.Close()); err != nil {
		return err
	}
	db, err := sql.Open("sqlite", b.path("large.db"))
	if err != nil {
		return err
	}
	for _, statement := range []string{
		"CREATE TABLE w (id INTEGER PRIMARY KEY, title TEXT, coins INTEGER)", "INSERT INTO w VALUES (1, 'Large', 1)",
		"CREATE TABLE tree (id INTEGER PRIMARY KEY, says TEXT)",
		"WITH RECURSIVE n(i) AS (SELECT 1 UNION ALL SELECT i+1 FROM n WHERE i < 150000) INSERT INTO tree SELECT i, printf('tree %d ', i) || hex(zeroblob(500)) FROM n",
		"INSERT INTO tree VALUES (200000, 'the end')",
	} {
		if _, err := db.Exec(statement); err != nil {
			return errors.Join(err, db.Close())
		}
	}
	return db.Close()
}

// packed compares changes of a save in gzip and of a database with copying it.
func packed(ctx context.Context, b *bench) error {
	if err := packedSaves(b); err != nil {
		return err
	}
	for ending, what := range map[string]string{"gz": "300 MB in gzip: ", "db": "SQLite of 166 MB: "} {
		fresh := func() error {
			if err := copyFile(b.path("large."+ending), b.path("game", "saves", "large."+ending)); err != nil {
				return err
			}
			time.Sleep(2100 * time.Millisecond)
			return b.setUp("look", "bench")
		}
		cp := side{name: "cp, sync", command: []string{"sh", "-c", "cp large." + ending + " copy && sync copy"}, before: func() error { _ = os.Remove(b.path("copy")); return nil }}
		if _, err := b.compare(ctx, what+"a value", side{name: "set", command: []string{b.ostrov, "set", "bench/large." + ending, "coins=7", "--yes"}, before: fresh}, cp); err != nil {
			return err
		}
		grep := side{name: "grep -F", command: []string{"sh", "-c", "grep -aF 'the end' large." + ending + " > found || true"}}
		if _, err := b.compare(ctx, what+`"the end"`, side{name: "find", command: []string{b.ostrov, "find", "bench/large." + ending, "the end"}}, grep); err != nil {
			return err
		}
	}
	return nil
}

// inside compares changes of what is in a save of 300 MB with copying it, and finding with grep.
func inside(b *bench) error {
	ctx := context.Background()
	err := b.gameOf(insideDescription, func(dir string) error {
		if err := os.MkdirAll(dir+"/moss", 0o755); err != nil {
			return err
		}
		return os.WriteFile(dir+"/moss/moss.txt", nil, 0o644)
	})
	if err != nil {
		return err
	}
	if err := insideSaves(b); err != nil {
		return err
	}
	fmt.Println(tableHead)
	for _, ending := range []string{"xs", "js", "bl"} {
		fresh := func() error { // as it is when a player comes to it: looked at, and not just written
			for _, name := range []string{"large.", "small."} {
				if err := copyFile(b.path(name+ending), b.path("game", "saves", name+ending)); err != nil {
					return err
				}
			}
			for range 2 {
				time.Sleep(2100 * time.Millisecond)
				if err := b.setUp("look", "bench"); err != nil {
					return err
				}
			}
			return nil
		}
		what := map[string]string{"xs": "XML", "js": "JSON", "bl": "blocks"}[ending] + " of 300 MB: "
		cp := side{name: "cp, sync", command: []string{"sh", "-c", "cp large." + ending + " copy && sync copy"}, before: func() error { _ = os.Remove(b.path("copy")); return nil }}
		for _, c := range []struct {
			what string
			args []string
		}{
			{"a value", []string{"set", "bench/large." + ending, "coins=7", "--yes"}},
			{"a section", []string{"borrow", "crew", "--from", "bench/small." + ending, "--into", "bench/large." + ending, "--yes"}},
			{"10,000 things of a mod", []string{"strip", "bench/large." + ending, "--of", "moss", "--yes"}},
		} {
			if _, err := b.compare(ctx, what+c.what, side{name: c.args[0], command: append([]string{b.ostrov}, c.args...), before: fresh}, cp); err != nil {
				return err
			}
		}
		for _, text := range []string{"no such text", "Ada of", "the end"} {
			grep := side{name: "grep -F", command: []string{"sh", "-c", "grep -F '" + text + "' large." + ending + " > found || true"}}
			if _, err := b.compare(ctx, what+`"`+text+`"`, side{name: "find", command: []string{b.ostrov, "find", "bench/large." + ending, text}}, grep); err != nil {
				return err
			}
		}
	}
	return packed(ctx, b)
}

func copyFile(from, to string) error {
	in, err := os.Open(from)
	if err != nil {
		return err
	}
	defer in.Close()
	out, err := os.Create(to)
	if err != nil {
		return err
	}
	_, err = io.Copy(out, in)
	return errors.Join(err, out.Close())
}
