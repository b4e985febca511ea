package schema

import (
	_ "embed"
	"encoding/json"
	"fmt"
)

//go:embed examples.json
var exampleFile []byte

// examples are an example for each of many schemas, by name.
var examples = func() (out map[string]any) {
	if err := json.Unmarshal(exampleFile, &out); err != nil {
		panic(fmt.Sprintf("schema: examples.json: %v", err))
	}
	return out
}()
