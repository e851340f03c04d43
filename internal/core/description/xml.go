package description

import (
	"bytes"
	"encoding/xml"
	"errors"
	"io"
	"strings"
	"unicode/utf8"
)

// deepestXML is how deep elements may be in each other.
const deepestXML = 32

// parseXML turns an answer in XML into values that paths lead to: each element is an object with its child elements as lists, by
// their names without prefix, its attributes as "@name" and its text as "#"; the whole is an object with the root element. It
// must be UTF-8, and may hold no document type (XML 1.0, section 2.8).
func parseXML(body []byte) (any, error) {
	if len(bytes.TrimSpace(body)) == 0 {
		return nil, nil
	}
	if !utf8.Valid(body) {
		return nil, errors.New("it is not UTF-8")
	}
	in := xml.NewDecoder(bytes.NewReader(body))
	in.CharsetReader = func(string, io.Reader) (io.Reader, error) { return nil, errors.New("it is not UTF-8") }
	top := map[string]any{}
	open := []map[string]any{top}
	for {
		token, err := in.Token()
		if errors.Is(err, io.EOF) {
			break
		}
		if err != nil {
			return nil, err
		}
		at := open[len(open)-1]
		switch x := token.(type) {
		case xml.Directive:
			return nil, errors.New("it has a document type")
		case xml.StartElement:
			if len(open) > deepestXML {
				return nil, errors.New("its elements are nested too deep")
			}
			e := map[string]any{}
			for _, a := range x.Attr {
				e["@"+a.Name.Local] = a.Value
			}
			list, _ := at[x.Name.Local].([]any)
			at[x.Name.Local] = append(list, e)
			open = append(open, e)
		case xml.EndElement:
			if s, ok := at["#"].(string); ok {
				if s = strings.TrimSpace(s); s == "" {
					delete(at, "#")
				} else {
					at["#"] = s
				}
			}
			open = open[:len(open)-1]
		case xml.CharData:
			if len(open) > 1 {
				s, _ := at["#"].(string)
				at["#"] = s + string(x)
			}
		}
	}
	if len(top) != 1 {
		return nil, errors.New("it has no root element")
	}
	return top, nil
}
