package httpapi

import (
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
	var promised, served []string
	for path, item := range document.Paths.Map() {
		for method := range item.Operations() {
			promised = append(promised, method+" "+path)
		}
	}
	parameter := regexp.MustCompile(`:(\w+)`)
	for _, r := range routes {
		served = append(served, r.method+" "+parameter.ReplaceAllString(r.path, "{$1}"))
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
