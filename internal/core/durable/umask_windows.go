package durable

import "io/fs"

// umask is nothing here: permission bits mean little on Windows.
const umask fs.FileMode = 0
