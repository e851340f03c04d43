package draft

import (
	"fmt"

	"go.yaml.in/yaml/v3"
)

// Most is the largest document, in bytes, that is read.
const Most = 16 << 20

// Read reads a document that is JSON or YAML (JSON is YAML too: yaml.org/spec/1.2.2).
func Read(data []byte) (map[string]any, error) {
	if len(data) > Most {
		return nil, fmt.Errorf("it is larger than %d bytes", Most)
	}
	var v any
	if err := yaml.Unmarshal(data, &v); err != nil {
		return nil, err
	}
	root, ok := plain(v, 0).(map[string]any)
	if !ok {
		return nil, fmt.Errorf("it holds no object")
	}
	return root, nil
}

// plain makes every key a string, and ends at a depth that no document needs.
func plain(v any, depth int) any {
	if depth > 64 {
		return nil
	}
	switch x := v.(type) {
	case map[string]any:
		for k, item := range x {
			x[k] = plain(item, depth+1)
		}
	case map[any]any:
		out := map[string]any{}
		for k, item := range x {
			out[fmt.Sprint(k)] = plain(item, depth+1)
		}
		return out
	case []any:
		for i, item := range x {
			x[i] = plain(item, depth+1)
		}
	}
	return v
}
