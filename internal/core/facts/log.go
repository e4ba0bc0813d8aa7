package facts

import (
	"ostrov/internal/core/game"
	"ostrov/internal/core/tree"
	"ostrov/internal/core/wrap"
)

// maxLog bounds the log that is read, in bytes.
const maxLog = 256 << 20

func readLog(d *game.Description, path string) (game.LogRead, error) {
	f, err := tree.Open(path)
	if err != nil {
		return game.LogRead{}, err
	}
	defer f.Close()
	content, err := d.Files[d.Log.In].Layers.Reader(f, wrap.Limits{Decoded: maxLog})
	if err != nil {
		return game.LogRead{}, err
	}
	defer content.Close()
	return d.Log.Read(content)
}
