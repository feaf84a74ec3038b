// Package engine is a small stand-in for a container engine: it answers the listing and inspection calls that engines
// have in common, from documents that it is given, and runs nothing.
package engine

import (
	_ "embed"
	"encoding/json"
	"fmt"
	"net/http"
	"regexp"
	"strings"
)

// Demo is what the container host of the demo estate, azimuth, has.
//
//go:embed azimuth.json
var Demo []byte

// fixture is what the stand-in answers from: documents as inspection gives them.
type fixture struct {
	Containers []json.RawMessage `json:"containers"`
	Networks   []json.RawMessage `json:"networks"`
}

// document is what the stand-in itself reads of one.
type document struct {
	ID     string   `json:"Id"`
	Name   string   `json:"Name"`
	Names  []string `json:"Names,omitempty"`
	State  any      `json:"State,omitempty"`
	Labels any      `json:"Labels,omitempty"`
}

var version = regexp.MustCompile(`^/v\d+\.\d+/`)

// New is a stand-in for an engine that has what a fixture says.
func New(text []byte) (http.Handler, error) {
	var f fixture
	if err := json.Unmarshal(text, &f); err != nil {
		return nil, fmt.Errorf("the fixture cannot be read: %w; expected {\"containers\": […], \"networks\": […]}", err)
	}
	var list []document
	containers, err := byName(f.Containers, &list)
	if err != nil {
		return nil, err
	}
	networks, err := byName(f.Networks, nil)
	if err != nil {
		return nil, err
	}
	mux := http.NewServeMux()
	mux.HandleFunc("GET /_ping", func(w http.ResponseWriter, _ *http.Request) { _, _ = w.Write([]byte("OK")) })
	mux.HandleFunc("GET /containers/json", func(w http.ResponseWriter, _ *http.Request) { answer(w, list) })
	mux.HandleFunc("GET /containers/{id}/json", func(w http.ResponseWriter, r *http.Request) { one(w, containers, r.PathValue("id")) })
	mux.HandleFunc("GET /networks", func(w http.ResponseWriter, _ *http.Request) { answer(w, f.Networks) })
	mux.HandleFunc("GET /networks/{id}", func(w http.ResponseWriter, r *http.Request) { one(w, networks, r.PathValue("id")) })
	return http.HandlerFunc(func(w http.ResponseWriter, r *http.Request) {
		if at := version.FindString(r.URL.Path); at != "" {
			r.URL.Path = r.URL.Path[len(at)-1:]
		}
		mux.ServeHTTP(w, r)
	}), nil
}

// byName finds documents by their names and ids; list, if given, takes them as the engine lists them.
func byName(docs []json.RawMessage, list *[]document) (map[string]json.RawMessage, error) {
	out := map[string]json.RawMessage{}
	for i, doc := range docs {
		var d document
		if err := json.Unmarshal(doc, &d); err != nil || d.ID == "" || d.Name == "" {
			return nil, fmt.Errorf("document %d of the fixture has no Id or no Name", i+1)
		}
		out[d.ID], out[strings.TrimPrefix(d.Name, "/")] = doc, doc
		if list != nil {
			*list = append(*list, document{ID: d.ID, Names: []string{d.Name}})
		}
	}
	return out, nil
}

func answer(w http.ResponseWriter, v any) {
	w.Header().Set("Content-Type", "application/json")
	_ = json.NewEncoder(w).Encode(v)
}

func one(w http.ResponseWriter, docs map[string]json.RawMessage, id string) {
	doc, ok := docs[id]
	if !ok {
		w.Header().Set("Content-Type", "application/json")
		w.WriteHeader(http.StatusNotFound)
		_ = json.NewEncoder(w).Encode(map[string]string{"message": "no such thing: " + id})
		return
	}
	answer(w, doc)
}
