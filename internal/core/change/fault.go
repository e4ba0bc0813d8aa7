package change

// fault is called before everything that a change does to folders, with what it is. It does nothing in a program that people use; tests
// stop a change at each call: in the package by replacing it, from outside by a program that is built for that (fault_on.go).
var fault = func(op string) error { return nil }
