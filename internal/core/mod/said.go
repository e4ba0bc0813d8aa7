package mod

import (
	"bytes"
	"context"
	"fmt"
	"io"
	"io/fs"
	"path"
	"strings"

	"ostrov/internal/core/field"
	"ostrov/internal/core/game"
	"ostrov/internal/core/version"
)

// ownDigest takes the game's own digest of the file of a mod.
func ownDigest(d *game.OwnDigest, fsys fs.FS, name string) (string, error) {
	f, err := fsys.Open(name)
	if err != nil {
		return "", err
	}
	defer f.Close()
	info, err := f.Stat()
	if err != nil {
		return "", err
	}
	at, ok := f.(io.ReaderAt)
	if !ok { // of a download that is not unpacked
		data, err := io.ReadAll(io.LimitReader(f, maxOwnDigest))
		if err != nil {
			return "", err
		}
		at = bytes.NewReader(data)
	}
	return d.Of(at, info.Size())
}

// maxOwnDigest bounds a mod in a download whose digest is taken, in bytes.
const maxOwnDigest = 256 << 20

// facts are what a mod says of itself.
type facts struct {
	Fields         map[string]string
	Title, Own     string
	Needs, Clashes []field.Item
	Also           []string
	Adds           game.Added
	Unlike         bool // it is not made as mods of its kind are
}

// readFacts reads as much as can be read; the error is the first of all.
func readFacts(ctx context.Context, kind *game.Mod, files *field.Files) (facts, error) {
	said := facts{Fields: map[string]string{}}
	var first error
	note := func(err error) {
		if first == nil {
			first = err
		}
	}
	for id, fields := range kind.Field {
		v, ok, err := files.Field(ctx, fields)
		note(err)
		if ok && v.Unmapped == "" {
			said.Fields[id] = v.Raw
		}
		if id == "title" {
			said.Title = v.Text
		}
	}
	var err error
	said.Needs, _, err = files.List(ctx, kind.Needs)
	note(err)
	said.Clashes, _, err = files.List(ctx, kind.Clashes)
	note(err)
	for _, lists := range []field.Lists{kind.Provides, kind.Was} {
		items, _, err := files.List(ctx, lists)
		note(err)
		for _, item := range items {
			said.Also = append(said.Also, item.ID)
		}
	}
	said.Adds, err = game.ReadAdds(ctx, files, kind.Adds)
	note(err)
	return said, first
}

// take makes the mod what it says; where it does not say its id, it is called like its file.
func (m *Mod) take(said facts) {
	m.unlike = said.Unlike
	m.Fields, m.ID, m.Version, m.Title, m.Also, m.Own = said.Fields, said.Fields["id"], said.Fields["version"], said.Title, said.Also, said.Own
	if m.ID == "" {
		m.ID = path.Base(m.Path)
		if m.Kind.Unit == game.UnitFile {
			m.ID = strings.TrimSuffix(m.ID, path.Ext(m.ID))
		}
	}
	for _, item := range said.Needs {
		r, err := version.ParseRange(item.Range)
		if err != nil && m.Problem == nil {
			m.Problem = fmt.Errorf("needs %s: %w", item.ID, err)
		}
		m.Needs = append(m.Needs, Need{ID: item.ID, Range: r})
	}
	for _, item := range said.Clashes {
		m.Clashes = append(m.Clashes, item.ID)
	}
	var err error
	if m.Supports, err = version.ParseRange(said.Fields["game"]); err != nil && m.Problem == nil {
		m.Problem = fmt.Errorf("for the game %s: %w", said.Fields["game"], err)
	}
	m.Adds = game.Added{Exact: said.Adds.Exact}
	for _, p := range said.Adds.Prefixes {
		m.Adds.Prefixes = append(m.Adds.Prefixes, Spelled(p, m.ID, m.Fields)...)
	}
	for _, p := range said.Adds.Suffixes {
		m.Adds.Suffixes = append(m.Adds.Suffixes, Spelled(p, m.ID, m.Fields)...)
	}
}

// Spelled is a template of an identifier as it is for a mod with an id and fields; nothing where the mod does not say one of the fields.
func Spelled(template, id string, fields map[string]string) []string {
	text := strings.ReplaceAll(template, "{id}", id)
	for name, value := range fields {
		text = strings.ReplaceAll(text, "{field:"+name+"}", value)
	}
	if strings.Contains(text, "{field:") {
		return nil
	}
	return []string{text}
}
