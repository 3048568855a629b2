package importfile

import (
	"encoding/csv"
	"errors"
	"fmt"
	"io"
	"regexp"
	"strings"

	"go.yaml.in/yaml/v3"
)

// csv reads comma-separated values (RFC 4180). The first line names the columns: name and value must be among them, and
// no others, because a column that is left out without a word is a value that is lost.
func (r *reader) csv() {
	table := csv.NewReader(strings.NewReader(r.text))
	table.ReuseRecord = true
	head, err := table.Read()
	if err != nil {
		r.problem(1, "the first line does not name the columns")
		return
	}
	name, value := -1, -1
	for i, column := range head {
		switch strings.ToLower(strings.TrimSpace(column)) {
		case "name":
			name = i
		case "value":
			value = i
		default:
			r.problem(1, "column %d is neither name nor value", i+1)
			return
		}
	}
	if name < 0 || value < 0 || len(head) != 2 {
		r.problem(1, "the first line names two columns, name and value")
		return
	}
	for {
		row, err := table.Read()
		if errors.Is(err, io.EOF) {
			return
		}
		if err != nil {
			line := 1
			if parse := (*csv.ParseError)(nil); errors.As(err, &parse) {
				line = parse.StartLine
				err = parse.Err // it repeats nothing of the line
			}
			r.problem(line, "%s", err)
			if !errors.Is(err, csv.ErrFieldCount) {
				return // where the next line begins is not known any more
			}
			continue
		}
		line, _ := table.FieldPos(0)
		if row[name] == "" {
			r.problem(line, "there is no name")
			continue
		}
		r.add(line, row[name], row[value])
	}
}

// yaml reads one YAML document that is a mapping of names to scalars. What reads differently from program to program is
// refused: numbers other than whole decimal ones, dates and words such as yes that are not in quotes, aliases and tags.
func (r *reader) yaml() {
	decoder := yaml.NewDecoder(strings.NewReader(r.text))
	var document yaml.Node
	if err := decoder.Decode(&document); err != nil {
		if !errors.Is(err, io.EOF) {
			r.problem(yamlLine(err), "it is not YAML that can be read")
		}
		return
	}
	if err := decoder.Decode(new(yaml.Node)); !errors.Is(err, io.EOF) {
		r.problem(document.Line, "there is more than one document in it")
		return
	}
	if len(document.Content) == 1 && document.Content[0].Kind == yaml.ScalarNode && document.Content[0].Tag == "!!null" {
		return // nothing but comments
	}
	if len(document.Content) != 1 || document.Content[0].Kind != yaml.MappingNode {
		r.problem(max(document.Line, 1), "it is not a mapping of names to values")
		return
	}
	pairs := document.Content[0].Content
	for i := 0; i+1 < len(pairs); i += 2 {
		name, value := pairs[i], pairs[i+1]
		switch {
		case name.Kind != yaml.ScalarNode || name.Tag != "!!str" || name.Anchor != "":
			r.problem(name.Line, "a name is a plain text")
		case value.Kind == yaml.MappingNode || value.Kind == yaml.SequenceNode:
			r.problem(value.Line, "%s: a value is one text; lists and mappings in it are not moved", name.Value)
		case value.Kind != yaml.ScalarNode || value.Anchor != "" || value.Style&yaml.TaggedStyle != 0:
			r.problem(value.Line, "%s: anchors, aliases and tags stand for something else: write the value out", name.Value)
		case value.Tag == "!!null":
			r.problem(value.Line, "%s: there is no value", name.Value)
		case value.Tag != "!!str" && !plainScalar.MatchString(value.Value):
			r.problem(value.Line, "%s: what reads as a number, a date or a truth by one program and as a text by another is written in quotes",
				name.Value)
		default:
			r.add(name.Line, name.Value, value.Value)
		}
	}
}

// plainScalar is what every program reads as the same, and whose text is what is meant.
var plainScalar = regexp.MustCompile(`^(0|-?[1-9][0-9]*|true|false)$`)

// yamlLine takes the line out of a parser's error, whose text may repeat what is there.
func yamlLine(err error) int {
	var line int
	if _, scan := fmt.Sscanf(err.Error(), "yaml: line %d:", &line); scan != nil || line < 1 {
		return 1
	}
	return line
}

// DotenvLine writes a name and a value as Read reads them back from a dotenv file.
func DotenvLine(name, value string) string {
	return name + `="` + dotenvEscape.Replace(value) + "\"\n"
}

var dotenvEscape = strings.NewReplacer(`\`, `\\`, `"`, `\"`, `$`, `\$`, "\n", `\n`, "\r", `\r`, "\t", `\t`)
