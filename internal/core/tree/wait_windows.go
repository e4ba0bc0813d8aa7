package tree

// noWait is nothing here: a pipe has no place in a folder.
const noWait = 0
