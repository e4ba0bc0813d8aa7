package logbook

import (
	"context"
	"database/sql"
	"strings"
	"time"

	"ostrov/internal/core/mod"
	"ostrov/internal/core/tree"
)

// Altered tells which of the mods of a game, by their digests, are not what was first seen of their version. What is seen of a version for the first
// time is remembered as what it is.
func (l *Logbook) Altered(ctx context.Context, gameID string, mods []mod.Listed, now time.Time) (map[tree.Digest]bool, error) {
	rows, err := l.db.QueryContext(ctx, "SELECT id, version, digest FROM mods WHERE game = ?", gameID)
	if err != nil {
		return nil, err
	}
	defer rows.Close()
	first := map[string]string{}
	for rows.Next() {
		var id, version, digest string
		if err := rows.Scan(&id, &version, &digest); err != nil {
			return nil, err
		}
		first[id+"\x00"+version] = digest
	}
	if err := rows.Err(); err != nil {
		return nil, err
	}
	altered := map[tree.Digest]bool{}
	var fresh []mod.Listed
	for _, m := range mods {
		switch known := first[strings.ToLower(m.ID)+"\x00"+m.Version]; known {
		case "":
			fresh = append(fresh, m)
		case m.Digest.String():
		default:
			altered[m.Digest] = true
		}
	}
	if len(fresh) == 0 {
		return altered, nil
	}
	return altered, l.inTx(ctx, func(tx *sql.Tx) error {
		for _, m := range fresh {
			if _, err := tx.ExecContext(ctx, "INSERT OR IGNORE INTO mods VALUES (?, ?, ?, ?, ?)", gameID, strings.ToLower(m.ID), m.Version, m.Digest.String(), stamp(now)); err != nil {
				return err
			}
		}
		return nil
	})
}
