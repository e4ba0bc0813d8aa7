package game

import (
	"encoding/hex"
	"errors"
	"fmt"
	"regexp"
	"strconv"
	"strings"
)

// places are the names of known folders in templates.
var places = []string{"game", "home", "documents", "saved_games", "app_data", "local_app_data", "local_low", "config", "data"}

// templatePart is a literal, or one {name} or {kind:id}.
type templatePart struct{ literal, name, id string }

// splitTemplate takes a template apart. It checks the syntax only.
func splitTemplate(t string) ([]templatePart, error) {
	var parts []templatePart
	for rest := t; rest != ""; {
		open := strings.IndexByte(rest, '{')
		if open != 0 {
			if open < 0 {
				open = len(rest)
			}
			parts = append(parts, templatePart{literal: rest[:open]})
			rest = rest[open:]
			continue
		}
		inner, after, ok := strings.Cut(rest[1:], "}")
		if !ok {
			return nil, errors.New("a { without }")
		}
		name, id, _ := strings.Cut(inner, ":")
		parts = append(parts, templatePart{name: name, id: id})
		rest = after
	}
	return parts, nil
}

// library is how a path leads from a game through its store's library to what the store keeps beside it.
var library = regexp.MustCompile(`^(/\.\.){1,4}(/[^/.][^/]*){2,}$`)

// managed reports whether the folder whose path stands at a key is managed.
func (v validator) managed(at string) bool {
	var i int
	if _, err := fmt.Sscanf(at, "folder.%d.path", &i); err != nil || i >= len(v.d.Folders) {
		return false
	}
	return v.d.Folders[i].Managed
}

// template checks a template of an absolute path.
func (v validator) template(at, t string) {
	parts, err := splitTemplate(t)
	if err != nil {
		v.Errorf(at, "", "the path %q: %v", t, err)
		return
	}
	if len(parts) == 0 || parts[0].name == "" {
		v.Errorf(at, "", "the path %q must begin with a known folder, such as {game} or {documents}", t)
		return
	}
	for i, p := range parts {
		switch p.name {
		case "":
			if library.MatchString(p.literal) && i == 1 && parts[0].name == "game" && strings.HasPrefix(at, "folder.") {
				if !v.managed(at) {
					v.Errorf(at, "", "the path %q leads out of the game: such a folder must be managed", t)
				}
				continue
			}
			if strings.Contains(p.literal, "\\") || strings.Contains("/"+p.literal+"/", "/../") {
				v.Errorf(at, "", "the path %q must use / and no ..", t)
			}
		case "folder":
			v.folderID(at, p.id)
		case "value":
			v.Defined(at, "[value]", p.id, keys(v.d.Values))
		case "account":
			if v.d.Account == nil {
				v.Errorf(at, "", "{account} needs [account] with a pattern")
			}
		default:
			v.Defined(at, "known folder", p.name, append([]string{"folder", "value", "account"}, places...))
			if p.id != "" || i > 0 {
				v.Errorf(at, "", "{%s} can only begin a path", p.name)
			}
		}
	}
}

// magic takes the [save.is] magic apart.
func (i *Is) magic() (magic []byte, offset int64, err error) {
	if i.Magic == "" {
		return nil, 0, nil
	}
	digits, at, _ := strings.Cut(i.Magic, "@")
	if magic, err = hex.DecodeString(digits); err != nil {
		return nil, 0, fmt.Errorf("%q is not HEX@OFFSET", i.Magic)
	}
	if at != "" {
		if offset, err = strconv.ParseInt(at, 10, 32); err != nil || offset < 0 {
			return nil, 0, fmt.Errorf("%q is not HEX@OFFSET", i.Magic)
		}
	}
	return magic, offset, nil
}

// MagicBytes are the bytes that begin a save's content at an offset, or none.
func (i *Is) MagicBytes() (magic []byte, offset int64) {
	if i == nil {
		return nil, 0
	}
	magic, offset, _ = i.magic() // checked when the description was read
	return magic, offset
}
