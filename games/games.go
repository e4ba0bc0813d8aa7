// Package games holds the descriptions that ship with Ostrov.
package games

import "embed"

// Files are the descriptions, one TOML file per game.
//
//go:embed *.toml
var Files embed.FS
