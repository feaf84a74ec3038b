package main

import (
	"os"
	"path/filepath"
	"strings"
	"testing"
)

// TestPastOfADatabase: what was is asked as what is, two moments are held against one another, and a copy is looked through and put back.
func TestPastOfADatabase(t *testing.T) {
	dir := t.TempDir()
	db, copied, first, second := filepath.Join(dir, "a.db"), filepath.Join(dir, "copy.db"), filepath.Join(dir, "a.estate"), filepath.Join(dir, "b.estate")
	text := "network lan 10.0.0.0/24\nhost box\naddress box 10.0.0.2 lan\n"
	for path, text := range map[string]string{first: text, second: strings.Replace(text, "10.0.0.2", "10.0.0.3", 1) + "host nova\n"} {
		if err := os.WriteFile(path, []byte(text), 0o600); err != nil {
			t.Fatal(err)
		}
	}
	damaged := filepath.Join(dir, "damaged.db")
	for _, c := range []struct {
		stdin, args string
		code        int
		out, errs   string
	}{
		{"", "import estate " + first + " --db " + db, 0, "3 to add", ""},
		{"", "backup " + copied + " --db " + db, 0, "", ""},
		{"", "backup " + copied + " --db " + db, 2, "", "there already"},
		{"", "import estate " + second + " --take-out --db " + db, 0, "", ""},
		{"", "log --db " + db, 0, "revision 2, ", ""},
		{"", "log --db " + db + " --kind host", 0, "+ host nova", ""},
		{"", "log --db " + db + " --word 10.0.0.3 --json", 0, `"revision": 2`, ""},
		{"", "log --db " + db + " --who nobody", 0, "", ""},
		{"", "diff 1 --db " + db, 0, "+ host nova\n", ""},
		{"", "diff 1 2 --db " + db, 0, "+ address box 10.0.0.3 lan\n", ""},
		{"", "diff 1 9 --db " + db, 2, "", "revision 9 is not there yet"},
		{"", "diff " + first + " " + second, 0, "+ host nova\n", ""},
		{text, "diff - " + second, 0, "+ host nova\n", ""},
		{"", "diff " + first, 2, "", "two estate files"},
		{"", "diff - -", 2, "", "one of which may be -"},
		{"", "uses 10.0.0.3 --db " + db, 0, "address box 10.0.0.3 lan", ""},
		{"", "uses 10.0.0.3 --as-of 1 --db " + db, 0, "", ""},
		{"", "export estate --as-of 1 --db " + db, 0, "10.0.0.2", ""},
		{"", "export estate --as-of 2001-01-01 --db " + db, 0, "", ""},
		{"", "export estate --as-of yesterday --db " + db, 2, "", "neither a revision nor a day"},
		{"", "export estate --as-of 1 --estate " + first, 2, "", "a file has no past"},
		{"", "restore --check " + copied, 0, "is sound: revision 1, 3 records, 1 change,", ""},
		{"", "restore --check " + first, 2, "", "is no database"},
		{"", "restore " + copied + " --db " + db, 0, "What was there is in " + db + ".before-", ""},
		{"", "export estate --db " + db, 0, "10.0.0.2", ""},
		{"", "log --db " + db, 0, "restored from copy.db", ""},
		{"", "restore " + filepath.Join(dir, "none") + " --db " + db, 2, "", "no such file"},
	} {
		code, out, errs := call(t, c.stdin, strings.Fields(c.args)...)
		if code != c.code || !strings.Contains(out, c.out) || !strings.Contains(errs, c.errs) || c.errs == "" && errs != "" {
			t.Errorf("%s: exit %d\n%s%s", c.args, code, out, errs)
		}
	}
	whole, err := os.ReadFile(copied)
	if err != nil {
		t.Fatal(err)
	}
	for i := 4096; i < 16384; i++ {
		whole[i] = 0xA5
	}
	if err := os.WriteFile(damaged, whole, 0o600); err != nil {
		t.Fatal(err)
	}
	if code, out, errs := call(t, "", "serve", "--alone", "--db", damaged, "--listen", "127.0.0.1:0"); code != 2 || !strings.Contains(errs, "damaged") || out != "" {
		t.Errorf("a damaged database: exit %d\n%s%s", code, out, errs)
	}
}
