package server

import (
	"bytes"
	"encoding/json"
	"flag"
	"os"
	"testing"

	"github.com/labstack/echo/v5"
)

var update = flag.Bool("update", false, "write golden files anew")

// TestOpenAPI holds the description in the repository, from which the interface's types are made,
// against what the program serves.
func TestOpenAPI(t *testing.T) {
	api := registerAPI(echo.New(), &Server{})
	raw, err := json.Marshal(api.OpenAPI())
	if err != nil {
		t.Fatal(err)
	}
	var got bytes.Buffer
	if err := json.Indent(&got, raw, "", "  "); err != nil {
		t.Fatal(err)
	}
	got.WriteByte('\n')
	const path = "../docs/openapi.json"
	if *update {
		if err := os.WriteFile(path, got.Bytes(), 0o644); err != nil {
			t.Fatal(err)
		}
	}
	want, err := os.ReadFile(path)
	if err != nil {
		t.Fatal(err)
	}
	if !bytes.Equal(got.Bytes(), want) {
		t.Error("docs/openapi.json is not what the program serves; run go test ./server -run OpenAPI -update, then npm run api in web")
	}
}
