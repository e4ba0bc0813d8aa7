package logbook

import (
	"context"
	"database/sql"
	"strings"
	"time"

	"ostrov/internal/core/modlist"
)

// FirstSeen is what was first seen of each version of each mod of a game. See Altered.
type FirstSeen map[string]string

// FirstSeen reads it.
func (l *Logbook) FirstSeen(ctx context.Context, gameID string) (FirstSeen, error) {
	rows, err := l.db.QueryContext(ctx, "SELECT id, version, digest FROM mods WHERE game = ?", gameID)
	if err != nil {
		return nil, err
	}
	defer rows.Close()
	first := FirstSeen{}
	for rows.Next() {
		var id, version, digest string
		if err := rows.Scan(&id, &version, &digest); err != nil {
			return nil, err
		}
		first[id+"\x00"+version] = digest
	}
	return first, rows.Err()
}

// Altered reports whether a mod is not what was first seen of its version; fresh, that its version has not been seen before.
func (f FirstSeen) Altered(m modlist.Listed) (altered, fresh bool) {
	known := f[strings.ToLower(m.ID)+"\x00"+m.Version]
	return known != "" && known != m.Digest.String(), known == ""
}

// SeeMods remembers what mods are of which no version was seen before. One that is known by now stays what it is.
func (l *Logbook) SeeMods(ctx context.Context, gameID string, fresh []modlist.Listed, now time.Time) error {
	if len(fresh) == 0 {
		return nil
	}
	return l.inTx(ctx, func(tx *sql.Tx) error {
		for _, m := range fresh {
			if _, err := tx.ExecContext(ctx, "INSERT OR IGNORE INTO mods VALUES (?, ?, ?, ?, ?)", gameID, strings.ToLower(m.ID), m.Version, m.Digest.String(), stamp(now)); err != nil {
				return err
			}
		}
		return nil
	})
}
