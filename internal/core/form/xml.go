package form

import (
	"bytes"
	"context"
	"fmt"
	"io"
	"strings"

	"github.com/antchfx/xmlquery"
	"github.com/antchfx/xpath"
)

// asItIs stands in for what would decode an XML as it declares itself: it is UTF-8 by now.
func asItIs(_ string, r io.Reader) (io.Reader, error) { return r, nil }

type xmlDoc struct{ node *xmlquery.Node }

func parseXML(data []byte) (Doc, error) {
	if err := checkXMLDepth(data); err != nil {
		return nil, err
	}
	node, err := xmlquery.ParseWithOptions(bytes.NewReader(bytes.TrimPrefix(data, []byte("\xef\xbb\xbf"))), xmlquery.ParserOptions{
		Decoder: &xmlquery.DecoderOptions{Strict: true, CharsetReader: asItIs},
	})
	if err != nil {
		return nil, fmt.Errorf("%w: not XML: %s", ErrDamaged, strings.TrimPrefix(err.Error(), "xmlquery: "))
	}
	root := false
	for n := node.FirstChild; n != nil; n = n.NextSibling {
		root = root || n.Type == xmlquery.ElementNode
	}
	if !root {
		return nil, fmt.Errorf("%w: the XML has no element", ErrDamaged)
	}
	text := newXML(inMemory(data))
	if end, err := text.whole(); err == nil { // else it is written in a way that only the tree knows
		if err := text.onlyNotesBehind(end); err != nil {
			return nil, err
		}
	}
	return xmlDoc{node}, nil
}

// checkXMLDepth counts tags as bytes, before a tree is built whose walk would need a stack as deep. Comments may make it count too much,
// never too little for what is an element.
func checkXMLDepth(data []byte) error {
	depth := 0
	for i := 0; i+1 < len(data); i++ {
		switch {
		case data[i] == '<' && data[i+1] == '/', data[i] == '/' && data[i+1] == '>':
			depth--
		case data[i] == '<' && data[i+1] != '!' && data[i+1] != '?':
			if depth++; depth > maxDepth {
				return fmt.Errorf("%w: nested deeper than %d", ErrTooLarge, maxDepth)
			}
		}
	}
	return nil
}

func compileXPath(query string) (expr *xpath.Expr, err error) {
	defer func() { // the library panics on some malformed expressions
		if r := recover(); r != nil {
			err = fmt.Errorf("not an XPath: %v", r)
		}
	}()
	return xpath.Compile(query)
}

func (d xmlDoc) Value(ctx context.Context, query string) (text string, ok bool, err error) {
	if query == "." { // of an attribute the library has no navigator
		return strings.TrimSpace(d.node.InnerText()), true, nil
	}
	expr, err := compileXPath(query)
	if err != nil {
		return "", false, err
	}
	found, err := inTime(ctx, query, !Streams("xml", query), func() (*string, error) {
		switch v := expr.Evaluate(xmlquery.CreateXPathNavigator(d.node)).(type) {
		case *xpath.NodeIterator:
			if v.MoveNext() {
				text := strings.TrimSpace(v.Current().Value())
				return &text, nil
			}
		case string:
			if v != "" {
				return &v, nil
			}
		case float64:
			if text := fmt.Sprint(v); v == v {
				return &text, nil
			}
		case bool:
			text := fmt.Sprint(v)
			return &text, nil
		}
		return nil, nil
	})
	if err != nil || found == nil {
		return "", false, err
	}
	return *found, true, nil
}

func (d xmlDoc) Each(ctx context.Context, query string) (docs []Doc, err error) {
	expr, err := compileXPath(query)
	if err != nil {
		return nil, err
	}
	return inTime(ctx, query, !Streams("xml", query), func() (docs []Doc, err error) {
		for _, node := range xmlquery.QuerySelectorAll(d.node, expr) {
			docs = append(docs, xmlDoc{node})
		}
		return docs, nil
	})
}

func (d xmlDoc) Close() error { return nil }
