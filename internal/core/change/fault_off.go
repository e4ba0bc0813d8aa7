//go:build !faults

package change

// fault does nothing in a program that people use; see fault_on.go.
func fault(string) error { return nil }
