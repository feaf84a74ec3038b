package compose_test

import (
	"slices"
	"strings"
	"testing"

	"steady-compass/core/estate"
	"steady-compass/core/notation"
	"steady-compass/intake"
	"steady-compass/intake/compose"
)

func recorded(t *testing.T, text string) *estate.Estate {
	t.Helper()
	e, faults := notation.Parse(text)
	if len(faults) > 0 {
		t.Fatal(faults)
	}
	return e
}

const base = `
services:
  web:
    image: example/web
    ports:
      - "8080-8082:80-82"
      - "127.0.0.1:${DNS:-5353}:53/udp"
      - target: 90
        published: "9090"
        host_ip: "::1"
      - "3000"
    networks:
      front: {aliases: [www], ipv4_address: 172.30.0.9}
      back: {}
  db:
    image: example/db
    container_name: shop-db
    networks: [back]
    extra_hosts: ["ledger.fernmoor.example=10.40.0.3"]
  gauge:
    image: example/gauge
    network_mode: host
  tool:
    image: example/tool
    profiles: [tools]
    network_mode: "service:web"
networks:
  front:
    ipam: {config: [{subnet: 172.30.0.0/24}]}
  back: {}
`

func TestRead(t *testing.T) {
	tests := []struct {
		name     string
		src      compose.Source
		recorded string
		want     []string
		left     []string
	}{
		{
			"long and short ports, ranges, a default value, a host network",
			compose.Source{Files: []intake.File{{Name: "compose.yaml", Text: base}}, Project: "shop"},
			"host box\nnetwork yard 172.18.0.0/16",
			[]string{
				"container box/gauge shares-host",
				"container box/shop-db in shop_back alias db",
				"container box/web in shop_back,shop_front=172.30.0.9 alias www",
				"host box",
				`listen box/web 53/udp as web note "assumed: a map leads there"`,
				`listen box/web 80-82 as web note "assumed: a map leads there"`,
				`listen box/web 90 as web note "assumed: a map leads there"`,
				"map box/web 127.0.0.1:5353/udp to 53",
				"map box/web 8080-8082 to 80-82",
				"map box/web [::1]:9090 to 90",
				"name ledger.fernmoor.example 10.40.0.3 on box/shop-db",
				`network shop_back 172.19.0.0/16 on box note "the files do not give its range; the engine chooses one"`,
				"network shop_front 172.30.0.0/24 on box",
			},
			[]string{"172.19.0.0/16", "3000", "tool (tools)", "listens"},
		},
		{
			"files merged, a profile chosen, a variable given",
			compose.Source{Files: []intake.File{{Name: "compose.yaml", Text: base}, {Name: "compose.prod.yaml", Text: `
services:
  web:
    ports: ["443:8443"]
  db:
    ports: !override ["${DB_PORT}:5432"]
`}}, Project: "shop", Profiles: []string{"tools"}, Variables: map[string]string{"DNS": "1053", "DB_PORT": "15432"}},
			"host box\nnetwork vault 172.21.0.0/16 on box\ncontainer box/shop-db in vault\ncontainer box/web in vault",
			[]string{
				"container box/gauge shares-host",
				"container box/shop-db in vault alias db",
				"container box/web in vault,shop_front=172.30.0.9 alias www",
				"host box",
				`listen box/shop-db 5432 as shop-db note "assumed: a map leads there"`,
				`listen box/web 53/udp as web note "assumed: a map leads there"`,
				`listen box/web 80-82,8443 as web note "assumed: a map leads there"`,
				`listen box/web 90 as web note "assumed: a map leads there"`,
				"map box/shop-db 15432 to 5432",
				"map box/web 127.0.0.1:1053/udp to 53",
				"map box/web 443,8080-8082 to 8443,80-82",
				"map box/web [::1]:9090 to 90",
				"name ledger.fernmoor.example 10.40.0.3 on box/shop-db",
				"network shop_front 172.30.0.0/24 on box",
				"network vault 172.21.0.0/16 on box",
			},
			[]string{"3000", "tool is left out", "listens"},
		},
		{"a variable that nobody gave is told of, once, and only where nothing else is said", compose.Source{Files: []intake.File{{Name: "c.yaml", Text: `
services:
  web:
    image: "x:${TAG-latest}$$NOT"
    ports: ["${WEB}8080:80", "$WEB8081:81"]
    networks: {front: {}}
networks:
  front: {ipam: {config: [{subnet: 172.30.0.0/24}]}}
`}}}, "host box", []string{
			"container box/web in project_front", "host box", `listen box/web 80 as web note "assumed: a map leads there"`, "map box/web 8080 to 80", "network project_front 172.30.0.0/24 on box",
		}, []string{"WEB, WEB8081", "port 81", "listens"}},
	}
	for _, test := range tests {
		t.Run(test.name, func(t *testing.T) {
			test.src.Host = "box"
			a := compose.Read(test.src, recorded(t, test.recorded))
			var got []string
			for _, r := range a.Records {
				got = append(got, estate.Line(r))
			}
			slices.Sort(got)
			if !slices.Equal(got, test.want) || len(a.Faults) > 0 {
				t.Errorf("%v\ngot\n%s\nwant\n%s", a.Faults, strings.Join(got, "\n"), strings.Join(test.want, "\n"))
			}
			if len(a.Left) != len(test.left) {
				t.Errorf("left out: %q", a.Left)
			}
			for _, word := range test.left {
				if !slices.ContainsFunc(a.Left, func(l string) bool { return strings.Contains(l, word) }) {
					t.Errorf("nothing tells of %s: %q", word, a.Left)
				}
			}
		})
	}
}

func TestReadFaults(t *testing.T) {
	tests := []struct {
		name, text string
		line       int
		word       string
	}{
		{"no YAML", "services:\n  web:\n   image: x\n  bad: [\n", 4, ""},
		{"a port that is none", "services:\n  web:\n    image: x\n    ports:\n      - \"80800:80\"\n", 5, "80800"},
		{"a word that Compose does not know", "services:\n  web:\n    image: x\n    imagee: y\n", 4, "no such word as \"imagee\""},
		{"a variable that must be given", "services:\n  web:\n    image: x\n    ports:\n      - \"${OUTER?say a port}:80\"\n", 4, "say a port"},
		{"a network that is not set up", "services:\n  web:\n    image: x\n    networks: [gone]\n", 1, "gone"},
		{"another file", "include: [other.yaml]\nservices:\n  web: {image: x}\n", 1, "another file"},
		{"a service of another file", "services:\n  web:\n    extends: {file: /etc/passwd, service: root}\n", 1, "another file"},
		{"nothing", "", 1, ""},
	}
	for _, test := range tests {
		t.Run(test.name, func(t *testing.T) {
			a := compose.Read(compose.Source{Files: []intake.File{{Name: "compose.yaml", Text: test.text}}, Host: "box"}, recorded(t, ""))
			if len(a.Faults) != 1 {
				t.Fatalf("%v, and records %v", a.Faults, a.Records)
			}
			f := a.Faults[0]
			if f.Line != test.line || !strings.Contains(f.What, test.word) || f.File != "compose.yaml" || f.Expected == "" {
				t.Errorf("%v; expected line %d and %q", f, test.line, test.word)
			}
		})
	}
}

// TestFilesOfFiles reads files that name one another: what is included is there, what is only extended is not.
func TestFilesOfFiles(t *testing.T) {
	main := "include: [more/db.yaml]\nservices:\n  web:\n    extends: {file: ./base.yml, service: app}\n    ports: [\"8080:80\"]\n"
	db := "services:\n  db:\n    image: x\n    ports: [\"5432:5432\"]\n"
	base := "services:\n  app:\n    image: y\n    ports: [\"8443:443\"]\n  idle:\n    image: z\n"
	files := []intake.File{{Name: "stack/compose.yaml", Text: main}, {Name: "stack/more/db.yaml", Text: db}, {Name: "stack/base.yml", Text: base}}
	a := compose.Read(compose.Source{Files: files, Host: "box"}, recorded(t, ""))
	if len(a.Faults) > 0 {
		t.Fatal(a.Faults)
	}
	var maps []string
	for _, r := range a.Records {
		if m, ok := r.(*estate.Map); ok {
			maps = append(maps, estate.Line(m))
		}
	}
	slices.Sort(maps)
	if got, want := strings.Join(maps, "; "), "map box/db 5432 to 5432; map box/web 8080,8443 to 80,443"; got != want {
		t.Errorf("%s, want %s", got, want)
	}
	for name, texts := range map[string][]string{
		"a file that was not given":    {main, db},
		"a file with variables":        {"include:\n  - path: b.yaml\n    env_file: /etc/shadow\nservices: {}\n", db},
		"a folder elsewhere":           {"include:\n  - path: b.yaml\n    project_directory: /etc\nservices: {}\n", db},
		"by an alias":                  {"x: &i\n  - path: b.yaml\n    env_file: /etc/shadow\ninclude: *i\nservices: {}\n", db},
		"in a second document":         {"services: {}\n---\ninclude:\n  - path: b.yaml\n    env_file: /etc/shadow\n", db},
		"beside services of no shape":  {"services: 5\ninclude:\n  - path: b.yaml\n    env_file: /etc/shadow\n", db},
		"a given file's absolute path": {"include: [b.yaml]\nservices: {}\n", "services:\n  web:\n    extends: {file: /etc/passwd, service: root}\n"},
	} {
		var files []intake.File
		for i, text := range texts {
			files = append(files, intake.File{Name: string(rune('a'+i)) + ".yaml", Text: text})
		}
		if a := compose.Read(compose.Source{Files: files, Host: "box"}, recorded(t, "")); len(a.Faults) != 1 || !strings.Contains(a.Faults[0].What, "not read") {
			t.Errorf("%s: %v", name, a.Faults)
		}
	}
}
