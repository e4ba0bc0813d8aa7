package logbook

import (
	"context"
	"database/sql"
	"errors"
	"fmt"
	"strings"
	"time"

	"ostrov/internal/core/tree"
)

// Key names a place: one save's position in one real folder. It is the same for every install, account and description that reaches it.
type Key struct {
	Folder string // its path with all links resolved
	Name   string // of the save, as it is spelled there
}

// Folder is a folder of saves of an install.
type Folder struct {
	Install string // its address
	Called  string // the folder's id, and its account where there is one
	Path    string // with all links resolved
	// Template is what the description says that the path is.
	Template string
	// Moved is the path that it had before, where nothing is there any more; else "". What is known of that holds for this one.
	Moved string
	Since time.Time
	Seen  time.Time
}

// former is what stood for the path until format 4.
func (f Folder) former() string { return Former(f.Install, f.Called) }

// Former is what stood for the path of a folder until format 4, when a place was an install's own.
func Former(install, called string) string { return install + " " + called }

// Place is what the last look found of a save.
type Place struct {
	Key
	Digest   tree.Digest
	Title    string
	Slot     string // as the game shows it
	Size     int64
	Modified time.Time
	Seen     time.Time
	Gone     bool // it was not there any more
	Under    Under
	Label    string // the player's own words for it; "" leaves those that stand there
}

// Under is what an install was when a state was first seen at a place; fields are "" where that is not known.
type Under struct {
	Version string
	Mods    string // a text that is the same for the same mods
}

// Across is what has changed until now.
func (u Under) Across(now Under) Across {
	differs := func(then, now string) bool { return then != "" && then != now }
	return Across{differs(u.Version, now.Version), differs(u.Mods, now.Mods)}
}

// Places returns where the saves of some folders stood at the last look.
func (l *Logbook) Places(ctx context.Context, in []Folder) (map[Key]Place, error) {
	places := map[Key]Place{}
	err := l.eachIn(ctx, in, "SELECT name, digest, title, slot, size, modified, seen, gone, version, mods, label FROM places WHERE folder = ?", func(rows *sql.Rows, folder string) error {
		p := Place{Key: Key{Folder: folder}}
		var digest, modified, seen string
		if err := rows.Scan(&p.Name, &digest, &p.Title, &p.Slot, &p.Size, &modified, &seen, &p.Gone, &p.Under.Version, &p.Under.Mods, &p.Label); err != nil {
			return err
		}
		var errs [3]error
		p.Digest, errs[0] = tree.ParseDigest(digest)
		p.Modified, errs[1] = time.Parse(time.RFC3339Nano, modified)
		p.Seen, errs[2] = time.Parse(time.RFC3339Nano, seen)
		places[p.Key] = p
		return errors.Join(errs[:]...)
	})
	return places, err
}

// eachIn asks for rows of each folder: those under its former names first, so that what is known of the path wins.
func (l *Logbook) eachIn(ctx context.Context, in []Folder, query string, row func(rows *sql.Rows, folder string) error) error {
	for _, f := range in {
		for _, key := range []string{f.former(), f.Moved, f.Path} {
			rows, err := l.db.QueryContext(ctx, query, key)
			if err != nil {
				return err
			}
			for err == nil && rows.Next() {
				err = row(rows, f.Path)
			}
			if err = errors.Join(err, rows.Err(), rows.Close()); err != nil {
				return err
			}
		}
	}
	return nil
}

// SetPlaces records what a look found.
func (l *Logbook) SetPlaces(ctx context.Context, places []Place) error {
	if len(places) == 0 {
		return nil
	}
	return l.inTx(ctx, func(tx *sql.Tx) error {
		for _, p := range places {
			if err := setPlace(ctx, tx, p); err != nil {
				return err
			}
		}
		return nil
	})
}

func setPlace(ctx context.Context, tx *sql.Tx, p Place) error {
	_, err := tx.ExecContext(ctx, `INSERT INTO places VALUES (?, ?, ?, ?, ?, ?, ?, ?, ?, ?, ?, ?) ON CONFLICT (folder, name) DO UPDATE SET digest = excluded.digest,
		title = excluded.title, slot = excluded.slot, size = excluded.size, modified = excluded.modified, seen = excluded.seen, gone = excluded.gone,
		version = excluded.version, mods = excluded.mods, label = CASE excluded.label WHEN '' THEN label ELSE excluded.label END`,
		p.Folder, p.Name, p.Digest.String(), p.Title, p.Slot, p.Size, stamp(p.Modified), stamp(p.Seen), p.Gone, p.Under.Version, p.Under.Mods, p.Label)
	return err
}

// Label records the player's own words for the save at a place; "" takes them away.
func (l *Logbook) Label(ctx context.Context, key Key, words string) error {
	_, err := l.db.ExecContext(ctx, "UPDATE places SET label = ? WHERE folder = ? AND name = ?", words, key.Folder, key.Name)
	return err
}

// Forget drops a save that is gone and of which the player has been told, or that Ostrov itself removed. What comes to lie at its place
// later is another save.
func (l *Logbook) Forget(ctx context.Context, key Key) error {
	return l.inTx(ctx, func(tx *sql.Tx) error {
		for _, table := range []string{"places", "belongs"} {
			if _, err := tx.ExecContext(ctx, "DELETE FROM "+table+" WHERE folder = ? AND name = ?", key.Folder, key.Name); err != nil {
				return err
			}
		}
		return nil
	})
}

// Folders returns the folders of saves that an install has had, the one that was seen last first.
func (l *Logbook) Folders(ctx context.Context, install string) ([]Folder, error) {
	rows, err := l.db.QueryContext(ctx, "SELECT folder, path, template, since, seen FROM folders WHERE install = ? ORDER BY seen DESC, path", install)
	if err != nil {
		return nil, err
	}
	defer rows.Close()
	var all []Folder
	for rows.Next() {
		f := Folder{Install: install}
		var since, seen string
		if err := rows.Scan(&f.Called, &f.Path, &f.Template, &since, &seen); err != nil {
			return nil, err
		}
		var errs [2]error
		f.Since, errs[0] = time.Parse(time.RFC3339Nano, since)
		f.Seen, errs[1] = time.Parse(time.RFC3339Nano, seen)
		if err := errors.Join(errs[:]...); err != nil {
			return nil, err
		}
		all = append(all, f)
	}
	return all, rows.Err()
}

// SeeFolders records the folders of saves that an install has now, and what was known of them under their former names.
func (l *Logbook) SeeFolders(ctx context.Context, in []Folder) error {
	return l.inTx(ctx, func(tx *sql.Tx) error {
		for _, f := range in {
			for _, was := range []string{f.former(), f.Moved} {
				for _, table := range []string{"places", "belongs"} {
					if _, err := tx.ExecContext(ctx, "UPDATE OR IGNORE "+table+" SET folder = ? WHERE folder = ?", f.Path, was); err != nil {
						return err
					}
					if _, err := tx.ExecContext(ctx, "DELETE FROM "+table+" WHERE folder = ?", was); err != nil {
						return err
					}
				}
			}
			if _, err := tx.ExecContext(ctx, "DELETE FROM folders WHERE path = ?", f.Moved); err != nil {
				return err
			}
			if _, err := tx.ExecContext(ctx, "INSERT OR REPLACE INTO folders VALUES (?, ?, ?, ?, ?, ?)", f.Install, f.Called, f.Path, f.Template, stamp(f.Since), stamp(f.Seen)); err != nil {
				return err
			}
		}
		return nil
	})
}

// Respell records that the name of a save is spelled in another way now.
func (l *Logbook) Respell(ctx context.Context, from, to Key) error {
	return l.inTx(ctx, func(tx *sql.Tx) error {
		for _, table := range []string{"places", "belongs"} {
			if _, err := tx.ExecContext(ctx, "UPDATE OR REPLACE "+table+" SET name = ? WHERE folder = ? AND name = ?", to.Name, from.Folder, from.Name); err != nil {
				return err
			}
		}
		return nil
	})
}

func (l *Logbook) inTx(ctx context.Context, do func(*sql.Tx) error) error {
	tx, err := l.db.BeginTx(ctx, nil)
	if err != nil {
		return err
	}
	defer tx.Rollback()
	if err := do(tx); err != nil {
		return err
	}
	return tx.Commit()
}

// Playthrough is one line of play.
type Playthrough struct {
	Name    string    `json:"name"`
	Title   string    `json:"title"`
	Game    string    `json:"game"`
	Install string    `json:"install"` // its name
	Started time.Time `json:"started"`
	Active  bool      `json:"active"` // new saves belong to it
	Closed  bool      `json:"closed"`
	Note    string    `json:"note,omitempty"`
	Keeps   []string  `json:"keeps,omitempty"` // what is always kept with it: mods, game, pictures
	At      string    `json:"at,omitempty"`    // the id of the snapshot that it stands at here: the last that was kept or brought back
}

// ErrExists says that there is a playthrough of that name already.
var ErrExists = errors.New("exists already")

// Playthroughs returns all playthroughs, oldest first.
func (l *Logbook) Playthroughs(ctx context.Context) ([]Playthrough, error) {
	rows, err := l.db.QueryContext(ctx, "SELECT name, title, game, install, started, active, closed, note, keeps, at FROM playthroughs ORDER BY started, name")
	if err != nil {
		return nil, err
	}
	defer rows.Close()
	var all []Playthrough
	for rows.Next() {
		var p Playthrough
		var started, keeps string
		if err := rows.Scan(&p.Name, &p.Title, &p.Game, &p.Install, &started, &p.Active, &p.Closed, &p.Note, &keeps, &p.At); err != nil {
			return nil, err
		}
		p.Keeps = strings.Fields(keeps)
		if p.Started, err = time.Parse(time.RFC3339Nano, started); err != nil {
			return nil, err
		}
		all = append(all, p)
	}
	return all, rows.Err()
}

// Start records a new playthrough and, where it is to be active, makes it the active one of its install. Saves that were the only
// playthrough's own until now, without being assigned, are assigned to that one: keys are these.
func (l *Logbook) Start(ctx context.Context, p Playthrough, keys []Key) error {
	all, err := l.Playthroughs(ctx)
	if err != nil {
		return err
	}
	var same []Playthrough
	for _, other := range all {
		if other.Name == p.Name {
			return fmt.Errorf("a playthrough %q %w", p.Name, ErrExists)
		}
		if other.Game == p.Game && other.Install == p.Install {
			same = append(same, other)
		}
	}
	return l.inTx(ctx, func(tx *sql.Tx) error {
		if len(same) == 1 {
			for _, k := range keys {
				if _, err := tx.ExecContext(ctx, "INSERT OR IGNORE INTO belongs VALUES (?, ?, ?)", k.Folder, k.Name, same[0].Name); err != nil {
					return err
				}
			}
		}
		if p.Active {
			if _, err := tx.ExecContext(ctx, "UPDATE playthroughs SET active = 0 WHERE game = ? AND install = ?", p.Game, p.Install); err != nil {
				return err
			}
		}
		_, err := tx.ExecContext(ctx, "INSERT INTO playthroughs VALUES (?, ?, ?, ?, ?, ?, 0, ?, ?, ?)",
			p.Name, p.Title, p.Game, p.Install, stamp(p.Started), p.Active, p.Note, strings.Join(p.Keeps, " "), p.At)
		return err
	})
}

// Assign makes saves belong to a playthrough.
func (l *Logbook) Assign(ctx context.Context, keys []Key, playthrough string) error {
	return l.inTx(ctx, func(tx *sql.Tx) error {
		for _, k := range keys {
			if _, err := tx.ExecContext(ctx, "INSERT OR REPLACE INTO belongs VALUES (?, ?, ?)", k.Folder, k.Name, playthrough); err != nil {
				return err
			}
		}
		return nil
	})
}

// Belongs returns which saves in some folders are assigned to which playthrough.
func (l *Logbook) Belongs(ctx context.Context, in []Folder) (map[Key]string, error) {
	belongs := map[Key]string{}
	err := l.eachIn(ctx, in, "SELECT name, playthrough FROM belongs WHERE folder = ?", func(rows *sql.Rows, folder string) error {
		k, name := Key{Folder: folder}, ""
		err := rows.Scan(&k.Name, &name)
		belongs[k] = name
		return err
	})
	return belongs, err
}

// Update writes back a changed playthrough under its old name, which may change too.
func (l *Logbook) Update(ctx context.Context, old string, p Playthrough) error {
	return l.inTx(ctx, func(tx *sql.Tx) error {
		if p.Active {
			if _, err := tx.ExecContext(ctx, "UPDATE playthroughs SET active = 0 WHERE game = ? AND install = ?", p.Game, p.Install); err != nil {
				return err
			}
		}
		if _, err := tx.ExecContext(ctx, "UPDATE belongs SET playthrough = ? WHERE playthrough = ?", p.Name, old); err != nil {
			return err
		}
		_, err := tx.ExecContext(ctx, "UPDATE playthroughs SET name = ?, title = ?, active = ?, closed = ?, note = ?, keeps = ? WHERE name = ?",
			p.Name, p.Title, p.Active, p.Closed, p.Note, strings.Join(p.Keeps, " "), old)
		return err
	})
}

// Stand records how a save stands at a place: which line it is assigned to, "" for none, and what is there, where that is known.
func (l *Logbook) Stand(ctx context.Context, key Key, playthrough string, p *Place) error {
	return l.inTx(ctx, func(tx *sql.Tx) error {
		_, err := tx.ExecContext(ctx, "DELETE FROM belongs WHERE folder = ? AND name = ?", key.Folder, key.Name)
		if err == nil && playthrough != "" {
			_, err = tx.ExecContext(ctx, "INSERT INTO belongs VALUES (?, ?, ?)", key.Folder, key.Name, playthrough)
		}
		if err == nil && p != nil {
			err = setPlace(ctx, tx, *p)
		}
		return err
	})
}

// StandAt records the snapshot that a playthrough stands at here.
func (l *Logbook) StandAt(ctx context.Context, name, id string) error {
	_, err := l.db.ExecContext(ctx, "UPDATE playthroughs SET at = ? WHERE name = ?", id, name)
	return err
}

// Knows reports whether a state was ever seen in an install.
func (l *Logbook) Knows(ctx context.Context, digest tree.Digest) (bool, error) {
	var n int
	err := l.db.QueryRowContext(ctx, "SELECT count(*) FROM states WHERE digest = ? AND foreign_only = 0", digest.String()).Scan(&n)
	return n > 0, err
}

// RenameInstall records that an install of a game has another name now.
func (l *Logbook) RenameInstall(ctx context.Context, gameID, from, to string) error {
	return l.inTx(ctx, func(tx *sql.Tx) error {
		if _, err := tx.ExecContext(ctx, "UPDATE playthroughs SET install = ? WHERE game = ? AND install = ?", to, gameID, from); err != nil {
			return err
		}
		_, err := tx.ExecContext(ctx, "UPDATE OR REPLACE folders SET install = ? WHERE install = ?", gameID+"@"+to, gameID+"@"+from)
		return err
	})
}

// Activate makes a playthrough the one that is played on its install, open again where it was closed.
func (l *Logbook) Activate(ctx context.Context, name string) error {
	return l.inTx(ctx, func(tx *sql.Tx) error {
		if _, err := tx.ExecContext(ctx, "UPDATE playthroughs SET active = 0 WHERE (game, install) IN (SELECT game, install FROM playthroughs WHERE name = ?)", name); err != nil {
			return err
		}
		_, err := tx.ExecContext(ctx, "UPDATE playthroughs SET active = 1, closed = 0 WHERE name = ?", name)
		return err
	})
}

// Drop forgets a playthrough that has no saves.
func (l *Logbook) Drop(ctx context.Context, name string) error {
	_, err := l.db.ExecContext(ctx, "DELETE FROM playthroughs WHERE name = ? AND NOT EXISTS (SELECT 1 FROM belongs WHERE playthrough = ?)", name, name)
	return err
}
