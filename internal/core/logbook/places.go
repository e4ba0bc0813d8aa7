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

// Key names a save in an install: its folder (id, and account where there is one) and its name.
type Key struct{ Folder, Name string }

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
}

// Places returns where the saves of an install stood at the last look.
func (l *Logbook) Places(ctx context.Context, install string) (map[Key]Place, error) {
	rows, err := l.db.QueryContext(ctx, "SELECT folder, name, digest, title, slot, size, modified, seen, gone FROM places WHERE install = ?", install)
	if err != nil {
		return nil, err
	}
	defer rows.Close()
	places := map[Key]Place{}
	for rows.Next() {
		var p Place
		var digest, modified, seen string
		if err := rows.Scan(&p.Folder, &p.Name, &digest, &p.Title, &p.Slot, &p.Size, &modified, &seen, &p.Gone); err != nil {
			return nil, err
		}
		var errs [3]error
		p.Digest, errs[0] = tree.ParseDigest(digest)
		p.Modified, errs[1] = time.Parse(time.RFC3339Nano, modified)
		p.Seen, errs[2] = time.Parse(time.RFC3339Nano, seen)
		if err := errors.Join(errs[:]...); err != nil {
			return nil, err
		}
		places[p.Key] = p
	}
	return places, rows.Err()
}

// SetPlaces records what a look at an install found.
func (l *Logbook) SetPlaces(ctx context.Context, install string, places []Place) error {
	return l.inTx(ctx, func(tx *sql.Tx) error {
		for _, p := range places {
			if err := setPlace(ctx, tx, install, p); err != nil {
				return err
			}
		}
		return nil
	})
}

func setPlace(ctx context.Context, tx *sql.Tx, install string, p Place) error {
	_, err := tx.ExecContext(ctx, "INSERT OR REPLACE INTO places VALUES (?, ?, ?, ?, ?, ?, ?, ?, ?, ?)",
		install, p.Folder, p.Name, p.Digest.String(), p.Title, p.Slot, p.Size, stamp(p.Modified), stamp(p.Seen), p.Gone)
	return err
}

// Forget drops a save that is gone and of which the player has been told, or that Ostrov itself removed. What comes to lie at its place
// later is another save.
func (l *Logbook) Forget(ctx context.Context, install string, key Key) error {
	return l.inTx(ctx, func(tx *sql.Tx) error {
		for _, table := range []string{"places", "belongs"} {
			if _, err := tx.ExecContext(ctx, "DELETE FROM "+table+" WHERE install = ? AND folder = ? AND name = ?", install, key.Folder, key.Name); err != nil {
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
}

// ErrExists says that there is a playthrough of that name already.
var ErrExists = errors.New("exists already")

// Playthroughs returns all playthroughs, oldest first.
func (l *Logbook) Playthroughs(ctx context.Context) ([]Playthrough, error) {
	rows, err := l.db.QueryContext(ctx, "SELECT name, title, game, install, started, active, closed, note, keeps FROM playthroughs ORDER BY started, name")
	if err != nil {
		return nil, err
	}
	defer rows.Close()
	var all []Playthrough
	for rows.Next() {
		var p Playthrough
		var started, keeps string
		if err := rows.Scan(&p.Name, &p.Title, &p.Game, &p.Install, &started, &p.Active, &p.Closed, &p.Note, &keeps); err != nil {
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

// Start records a new playthrough and, where it is to be active, makes it the active one of its install. Saves that were all the only playthrough's own until now are
// assigned to that one: keys are all saves that the install has.
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
				if _, err := tx.ExecContext(ctx, "INSERT OR IGNORE INTO belongs VALUES (?, ?, ?, ?)", p.Game+"@"+p.Install, k.Folder, k.Name, same[0].Name); err != nil {
					return err
				}
			}
		}
		if p.Active {
			if _, err := tx.ExecContext(ctx, "UPDATE playthroughs SET active = 0 WHERE game = ? AND install = ?", p.Game, p.Install); err != nil {
				return err
			}
		}
		_, err := tx.ExecContext(ctx, "INSERT INTO playthroughs VALUES (?, ?, ?, ?, ?, ?, 0, ?, ?)",
			p.Name, p.Title, p.Game, p.Install, stamp(p.Started), p.Active, p.Note, strings.Join(p.Keeps, " "))
		return err
	})
}

// Assign makes saves of an install (its address) belong to a playthrough.
func (l *Logbook) Assign(ctx context.Context, install string, keys []Key, playthrough string) error {
	return l.inTx(ctx, func(tx *sql.Tx) error {
		for _, k := range keys {
			if _, err := tx.ExecContext(ctx, "INSERT OR REPLACE INTO belongs VALUES (?, ?, ?, ?)", install, k.Folder, k.Name, playthrough); err != nil {
				return err
			}
		}
		return nil
	})
}

// Belongs returns which saves of an install (its address) are assigned to which playthrough.
func (l *Logbook) Belongs(ctx context.Context, install string) (map[Key]string, error) {
	rows, err := l.db.QueryContext(ctx, "SELECT folder, name, playthrough FROM belongs WHERE install = ?", install)
	if err != nil {
		return nil, err
	}
	defer rows.Close()
	belongs := map[Key]string{}
	for rows.Next() {
		var k Key
		var name string
		if err := rows.Scan(&k.Folder, &k.Name, &name); err != nil {
			return nil, err
		}
		belongs[k] = name
	}
	return belongs, rows.Err()
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
func (l *Logbook) Stand(ctx context.Context, install string, key Key, playthrough string, p *Place) error {
	return l.inTx(ctx, func(tx *sql.Tx) error {
		_, err := tx.ExecContext(ctx, "DELETE FROM belongs WHERE install = ? AND folder = ? AND name = ?", install, key.Folder, key.Name)
		if err == nil && playthrough != "" {
			_, err = tx.ExecContext(ctx, "INSERT INTO belongs VALUES (?, ?, ?, ?)", install, key.Folder, key.Name, playthrough)
		}
		if err == nil && p != nil {
			err = setPlace(ctx, tx, install, *p)
		}
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
