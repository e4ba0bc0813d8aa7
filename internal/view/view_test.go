package view

import (
	"bytes"
	"strings"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"

	"ostrov/internal/core/check"
	"ostrov/internal/core/problem"
)

func TestTextMakesEverythingForeignVisible(t *testing.T) {
	for in, want := range map[string]string{
		"Gannet Rock":                "Gannet Rock",
		"Спасённый маяк 灯台":          "Спасённый маяк 灯台",
		"a\x1b[31mred":               "a‹U+001B›[31mred",
		"line\nbreak":                "line‹U+000A›break",
		"a\u202egpj.exe":             "a‹U+202E›gpj.exe",
		"zero\u200bwidth":            "zero‹U+200B›width",
		"bad\xff":                    "bad‹FF›",
		strings.Repeat("x", 300):     strings.Repeat("x", 200) + "…",
		"c1 \u009b2J, bell \u0007 .": "c1 ‹U+009B›2J, bell ‹U+0007› .",
	} {
		assert.Equal(t, want, Text(in))
	}
}

func TestWhen(t *testing.T) {
	now := time.Date(2026, 3, 10, 21, 0, 0, 0, time.Local)
	for want, at := range map[string]time.Time{
		"today 20:30":     now.Add(-30 * time.Minute),
		"yesterday 23:00": now.Add(-22 * time.Hour),
		"3 Mar 21:00":     now.AddDate(0, 0, -7),
		"10 Mar 2025":     now.AddDate(-1, 0, 0),
		"":                {},
	} {
		assert.Equal(t, want, When(at, now))
	}
}

func printed(width int, do func(*Printer)) string {
	var b bytes.Buffer
	do(&Printer{Out: &b, Width: width})
	return b.String()
}

func TestTablesKeepToTheTerminal(t *testing.T) {
	rows := [][]string{{"1", strings.Repeat("long title ", 8), "fit"}, {"2", "short", "unfit"}}
	columns := []column{{title: "slot"}, {title: "title", grow: true}, {title: "verdict"}}
	for _, width := range []int{40, 60, 100} {
		for _, line := range strings.Split(printed(width, func(p *Printer) { p.table(columns, rows) }), "\n") {
			assert.LessOrEqual(t, len([]rune(line)), width, line)
		}
	}
	assert.Contains(t, printed(40, func(p *Printer) { p.table(columns, rows) }), "…")
	many := []column{{title: "slot"}, {title: "title", grow: true}, {title: "version", drop: 1}, {title: "size", drop: 2}, {title: "verdict"}}
	wide := [][]string{{"1", "Herring Sound at night", "1.6.2-beta.4", "12,345 bytes", "unfit"}}
	narrow := printed(52, func(p *Printer) { p.table(many, wide) })
	assert.Contains(t, narrow, "Herring Sound")
	assert.Contains(t, narrow, "version")
	assert.NotContains(t, narrow, "size", "the least telling column goes first")
	assert.Contains(t, narrow, "unfit")
	assert.Contains(t, printed(90, func(p *Printer) { p.table(many, wide) }), "size")
}

func TestFindingsAreWrappedAndGrouped(t *testing.T) {
	f := check.New(check.ModMissing, "Deep Tides 2.1", "the save lists it")
	f.Effect = "its islands sink at the next save, with everything on them, and the game does not say so"
	out := printed(60, func(p *Printer) { p.Findings([]check.Finding{f}) })
	assert.True(t, strings.HasPrefix(out, "  ✗ mod-missing Deep Tides 2.1: the save lists it"), out)
	for _, line := range strings.Split(out, "\n") {
		assert.LessOrEqual(t, len([]rune(line)), 60)
	}
	var many []check.Finding
	for range 9 {
		many = append(many, check.New(check.ModExtra, "Mod", "on here; the save was made without it"))
	}
	assert.Equal(t, 1, strings.Count(printed(200, func(p *Printer) { p.Findings(many) }), "\n"))
}

func TestNextTellsAdviceFromCommands(t *testing.T) {
	out := printed(80, func(p *Printer) {
		p.Next(problem.Advise("install Deep Tides"), problem.Do("look"), nil, problem.Do("look"))
	})
	assert.Equal(t, "\n  What helps\n    install Deep Tides\n\n  Next\n    ostrov look\n", out)
	assert.Empty(t, printed(80, func(p *Printer) { p.Next(nil) }))
	assert.Equal(t, "'a b'", quoted("a b"))
	assert.Equal(t, `'it'\''s'`, quoted("it's"))
	assert.Equal(t, "plain-1.zip", quoted("plain-1.zip"))
}
