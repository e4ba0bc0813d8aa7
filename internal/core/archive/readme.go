package archive

import _ "embed"

// readme is the README.txt of every archive: how to get files back without Ostrov.
//
//go:embed readme.txt
var readme string
