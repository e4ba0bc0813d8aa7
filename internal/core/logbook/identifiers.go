package logbook

import (
	"context"
	"database/sql"
	"encoding/json"

	"ostrov/internal/core/game"
)

// Identifiers returns what each mod of a game brings into saves, by the mod's id, as it was last seen: a mod that is gone cannot be asked.
func (l *Logbook) Identifiers(ctx context.Context, gameID string) (map[string]game.Added, error) {
	rows, err := l.db.QueryContext(ctx, "SELECT mod, exact, prefixes, suffixes FROM identifiers WHERE game = ?", gameID)
	if err != nil {
		return nil, err
	}
	defer rows.Close()
	all := map[string]game.Added{}
	for rows.Next() {
		var mod, exact, prefixes, suffixes string
		if err := rows.Scan(&mod, &exact, &prefixes, &suffixes); err != nil {
			return nil, err
		}
		var added game.Added
		if err := json.Unmarshal([]byte(exact), &added.Exact); err != nil {
			return nil, err
		}
		if err := json.Unmarshal([]byte(prefixes), &added.Prefixes); err != nil {
			return nil, err
		}
		if err := json.Unmarshal([]byte(suffixes), &added.Suffixes); err != nil {
			return nil, err
		}
		all[mod] = added
	}
	return all, rows.Err()
}

// SetIdentifiers remembers what mods bring into saves.
func (l *Logbook) SetIdentifiers(ctx context.Context, gameID string, fresh map[string]game.Added) error {
	if len(fresh) == 0 {
		return nil
	}
	return l.inTx(ctx, func(tx *sql.Tx) error {
		for mod, added := range fresh {
			exact, err1 := json.Marshal(added.Exact)
			prefixes, err2 := json.Marshal(added.Prefixes)
			suffixes, err3 := json.Marshal(added.Suffixes)
			if err1 != nil || err2 != nil || err3 != nil {
				continue // texts always can be
			}
			if _, err := tx.ExecContext(ctx, "INSERT OR REPLACE INTO identifiers VALUES (?, ?, ?, ?, ?)", gameID, mod, string(exact), string(prefixes), string(suffixes)); err != nil {
				return err
			}
		}
		return nil
	})
}
