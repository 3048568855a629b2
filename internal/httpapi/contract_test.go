package httpapi

import (
	"iter"
	"maps"
	"regexp"
	"slices"
	"strings"
	"testing"

	"github.com/getkin/kin-openapi/openapi3"
)

// A route that the contract does not have, or the other way round, would leave clients or the console's types wrong.
func TestRoutesAndContractAreTheSame(t *testing.T) {
	document, err := openapi3.NewLoader().LoadFromData(Contract())
	if err != nil {
		t.Fatal(err)
	}
	var promised, served, keyed, creates []string
	known := map[string]bool{}
	for path, item := range document.Paths.Map() {
		for method, operation := range item.Operations() {
			promised = append(promised, method+" "+path+inQuery(append(item.Parameters, operation.Parameters...)))
			if operation.Parameters.GetByInAndName("header", onceHeader) != nil {
				keyed = append(keyed, method+" "+path)
			}
		}
	}
	parameter := regexp.MustCompile(`:(\w+)`)
	for _, r := range all() {
		query := strings.Fields(r.query)
		slices.Sort(query)
		served = append(served, r.method+" "+parameter.ReplaceAllString(r.path, "{$1}")+" "+strings.Join(query, " "))
		known[r.method+" "+r.path] = true
	}
	for what, list := range map[string]iter.Seq[string]{"a query": maps.Keys(queries), "a key": slices.Values(creating),
		"a limit": slices.Values(limits)} {
		for route := range list {
			if !known[route] {
				t.Errorf("there is no route %s, which has %s", route, what)
			}
		}
	}
	for _, route := range creating {
		creates = append(creates, parameter.ReplaceAllString(route, "{$1}"))
	}
	slices.Sort(keyed)
	slices.Sort(creates)
	if !slices.Equal(keyed, creates) {
		t.Errorf("the contract has %s on\n%s\nthe service on\n%s", onceHeader, strings.Join(keyed, "\n"), strings.Join(creates, "\n"))
	}
	slices.Sort(promised)
	slices.Sort(served)
	if !slices.Equal(promised, served) {
		t.Errorf("the contract has\n%s\nthe service has\n%s", strings.Join(promised, "\n"), strings.Join(served, "\n"))
	}
	for code := range problems {
		if !strings.Contains(string(Contract()), string(code)) {
			t.Errorf("the code %s is not in the contract", code)
		}
	}
}

// inQuery lists the parameters of a route that are in the query.
func inQuery(parameters openapi3.Parameters) string {
	var names []string
	for _, p := range parameters {
		if p.Value.In == "query" {
			names = append(names, p.Value.Name)
		}
	}
	slices.Sort(names)
	return " " + strings.Join(names, " ")
}
