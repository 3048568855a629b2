package importfile

import (
	"fmt"
	"strings"
	"testing"
)

func show(entries []Entry, problems []Problem) string {
	var parts []string
	for _, e := range entries {
		parts = append(parts, fmt.Sprintf("%d %s=%q", e.Line, e.Name, e.Value.Reveal()))
	}
	for _, p := range problems {
		parts = append(parts, "! "+p.Error())
	}
	return strings.Join(parts, "\n")
}

func TestDotenv(t *testing.T) {
	for _, c := range []struct{ text, want string }{
		{"", ""},
		{"\ufeffA=1\n# comment\n\n  B = two words  # comment\nexport C=3\r\nD=", "1 A=\"1\"\n4 B=\"two words\"\n5 C=\"3\"\n6 D=\"\""},
		{`A='it is $literal # here'` + "\n" + `B="tab\tquote\"dollar\$" # comment`, `1 A="it is $literal # here"` + "\n" +
			`2 B="tab\tquote\"dollar$"`},
		{"KEY='line one\nline two'\nNEXT=1", "1 KEY=\"line one\\nline two\"\n3 NEXT=\"1\""},
		{"URL=a#b", `1 URL="a#b"`},
		{"A=${B}\nC=\"x $D\"\nE=ok", "3 E=\"ok\"\n! line 1: A: " + errInterpolation.Error() + "\n! line 2: C: " + errInterpolation.Error()},
		{"A='open\nB=2", "2 B=\"2\"\n! line 1: A: the quote is not closed"},
		{"A='x' y\nB=1", "2 B=\"1\"\n! line 1: A: there is something after the closing quote"},
		{`A="\x"` + "\nB=1", "2 B=\"1\"\n! line 1: A: there is an escape other than \\n \\r \\t \\\" \\\\ and \\$"},
		{"nonsense\n1A=2\nA=1\nA=2", "3 A=\"1\"\n! line 1: here belongs NAME=value, with a name of letters, digits and _\n! line 2: here " +
			"belongs NAME=value, with a name of letters, digits and _\n! line 4: A is on line 3 already"},
	} {
		if got := show(Read(Dotenv, []byte(c.text))); got != c.want {
			t.Errorf("%q:\ngot  %s\nwant %s", c.text, got, c.want)
		}
	}
}

func TestJSON(t *testing.T) {
	for _, c := range []struct{ text, want string }{
		{"{\n\"a\": \"x\\ny\",\n\"b\": 1.50,\n\"c\": true}", "2 a=\"x\\ny\"\n3 b=\"1.50\"\n4 c=\"true\""},
		{`{"a": {"b": 1}, "c": null, "d": "x", "d": "y"}`,
			"1 d=\"x\"\n! line 1: \"a\" holds an object or a list; a secret is a text\n! line 1: \"c\" is null\n! line 1: d is on line 1 already"},
		{"[]", "! line 1: the file is not a JSON object"},
		{"{\"a\": \"x\"\n", "1 a=\"x\"\n! line 1: the JSON object is not closed"},
		{"{} {}", "! line 1: there is something after the JSON object"},
	} {
		if got := show(Read(JSON, []byte(c.text))); got != c.want {
			t.Errorf("%q:\ngot  %s\nwant %s", c.text, got, c.want)
		}
	}
}

func TestProperties(t *testing.T) {
	for _, c := range []struct{ text, want string }{
		{"# comment\n! comment\n\na=1\nb : two words\nc three\nd\n  e =  5", "4 a=\"1\"\n5 b=\"two words\"\n6 c=\"three\"\n7 d=\"\"\n8 e=\"5\""},
		{"long=one \\\n   two\nnext=1", "1 long=\"one two\"\n3 next=\"1\""},
		{`a\=b=\u00e9\t\\x\ud83d\udd11`, `1 a=b="é\t\\x🔑"`},
		{`a=x\\` + "\nb=1", "1 a=\"x\\\\\"\n2 b=\"1\""},
		{`a=\u12`, "! line 1: there is an escape that is cut off"},
	} {
		if got := show(Read(Properties, []byte(c.text))); got != c.want {
			t.Errorf("%q:\ngot  %s\nwant %s", c.text, got, c.want)
		}
	}
}

func TestYAML(t *testing.T) {
	for _, c := range []struct{ text, want string }{
		{"# only a comment\n", ""},
		{"a: plain text # comment\n'b': \"tab\\there\"\nc: |\n  line one\n  line two\nport: 5432\non: true",
			"1 a=\"plain text\"\n2 b=\"tab\\there\"\n3 c=\"line one\\nline two\\n\"\n6 port=\"5432\"\n7 on=\"true\""},
		{"a: 0x1f\nb: 2026-11-23\nc: 1e3", "! line 1: a: what reads as a number, a date or a truth by one program and as a text by another " +
			"is written in quotes\n! line 2: b: what reads as a number, a date or a truth by one program and as a text by another is written " +
			"in quotes\n! line 3: c: what reads as a number, a date or a truth by one program and as a text by another is written in quotes"},
		{"a: &x secret\nb: *x\nc: !!binary aGk=\nd:\n  e: f",
			"! line 1: a: anchors, aliases and tags stand for something else: write the value out\n! line 2: b: anchors, aliases and tags " +
				"stand for something else: write the value out\n! line 3: c: anchors, aliases and tags stand for something else: write the value " +
				"out\n! line 5: d: a value is one text; lists and mappings in it are not moved"},
		{"- a", "! line 1: it is not a mapping of names to values"},
		{"a: 'open", "! line 1: it is not YAML that can be read"},
		{"a: x\n---\nb: y", "! line 1: there is more than one document in it"},
	} {
		if got := show(Read(YAML, []byte(c.text))); got != c.want {
			t.Errorf("%q:\ngot  %s\nwant %s", c.text, got, c.want)
		}
	}
}

func TestCSV(t *testing.T) {
	for _, c := range []struct{ text, want string }{
		{"Name,Value\r\na,1\r\nb,\"two, \"\"quoted\"\"\nlines\"\r\nc,3", "2 a=\"1\"\n3 b=\"two, \\\"quoted\\\"\\nlines\"\n5 c=\"3\""},
		{"value,name\nx,a", `2 a="x"`},
		{"name,value,owner\na,b,c", "! line 1: column 3 is neither name nor value"},
		{"name\na", "! line 1: the first line names two columns, name and value"},
		{"name,value\na\n,x\nb,y", "4 b=\"y\"\n! line 2: wrong number of fields\n! line 3: there is no name"},
		{"", "! line 1: the first line does not name the columns"},
	} {
		if got := show(Read(CSV, []byte(c.text))); got != c.want {
			t.Errorf("%q:\ngot  %s\nwant %s", c.text, got, c.want)
		}
	}
}

// What is written for a dotenv file is read back as it was, whatever is in it.
func FuzzDotenvLineReadsBack(f *testing.F) {
	f.Add("$x \"quoted\"\n\\end # no comment")
	f.Fuzz(func(t *testing.T, value string) {
		if strings.ToValidUTF8(value, "") != value || strings.ContainsRune(value, 0) {
			return
		}
		entries, problems := Read(Dotenv, []byte(DotenvLine("NAME", value)))
		if len(entries) != 1 || len(problems) != 0 || string(entries[0].Value.Reveal()) != value {
			t.Errorf("%q: %s", value, show(entries, problems))
		}
	})
}

func TestFormatIsGuessedFromTheName(t *testing.T) {
	for name, want := range map[string]Format{".env": Dotenv, "config/.env.production": Dotenv, "prod.env": Dotenv, "secrets.json": JSON,
		"app.properties": Properties, "values.yml": YAML, "export.csv": CSV, "notes.txt": ""} {
		if got := FormatOf(name); got != want {
			t.Errorf("%s: got %q, want %q", name, got, want)
		}
	}
}

func FuzzRead(f *testing.F) {
	for _, seed := range []string{"A=1\nB='x\ny'\n", `{"a":"b"}`, "a\\\n=b\\u0041", "A=\"\\", "a: b\nc: |\n  d\n", "name,value\na,\"b\n\"\n"} {
		f.Add(seed)
	}
	f.Fuzz(func(t *testing.T, text string) {
		for _, format := range Formats {
			entries, problems := Read(format, []byte(text))
			lines := strings.Count(text, "\n") + 1
			for _, e := range entries {
				if e.Line < 1 || e.Line > lines {
					t.Fatalf("%s of %q: line %d", format, text, e.Line)
				}
			}
			for _, p := range problems {
				if p.Line < 1 || p.Line > lines {
					t.Fatalf("%s of %q: a problem on line %d", format, text, p.Line)
				}
			}
		}
	})
}
