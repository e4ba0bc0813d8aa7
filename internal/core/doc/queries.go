package doc

import (
	"errors"
	"fmt"
	"slices"
	"strings"
)

// CheckSpec reports what is wrong with a spec, before any file is read.
func CheckSpec(spec Spec) error {
	if !slices.Contains(Forms, spec.Form) {
		return fmt.Errorf("no form %q; there are %s", spec.Form, strings.Join(Forms, ", "))
	}
	if spec.Encoding != "" {
		if err := checkEncoding(spec.Encoding); err != nil {
			return err
		}
	}
	if spec.Encoding != "" && !IsText(spec.Form) {
		return fmt.Errorf("the form %s has no encoding", spec.Form)
	}
	if spec.Form == "chunks" {
		return spec.Chunks.check()
	}
	if spec.Chunks != (ChunkSpec{}) {
		return errors.New("chunk and record belong to the form chunks")
	}
	if spec.Form != "blocks" && spec.Blocks != (BlockPatterns{}) {
		return errors.New("open, close and pair belong to the form blocks")
	}
	return spec.Blocks.check()
}

// CheckQuery reports what is wrong with a query for a form, before any file is read. With each, the query is to name elements.
func CheckQuery(form, query string, each bool) error {
	switch form {
	case "json", "blocks":
		if _, ok := jsonSteps(query); ok {
			return nil
		}
		_, err := compileJSON(query)
		return err
	case "chunks":
		_, _, _, err := chunkQuery(query, each)
		return err
	case "xml":
		if _, ok := xmlSteps(query); ok {
			return nil
		}
		_, err := compileXPath(query)
		return err
	case "sqlite":
		return checkSelect(query)
	case "bytes":
		if each {
			return errors.New("the form bytes has no lists")
		}
		_, _, err := bytesQuery(query)
		return err
	case "ini":
		if each {
			_, err := compilePattern(query)
			return err
		}
		if query == "" {
			return errors.New("empty query")
		}
		return nil
	default:
		_, err := compilePattern(query)
		return err
	}
}
