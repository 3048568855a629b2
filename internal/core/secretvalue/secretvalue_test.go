package secretvalue

import (
	"bytes"
	"encoding/json"
	"fmt"
	"log/slog"
	"strings"
	"testing"
)

func TestValueNeverPrintsItself(t *testing.T) {
	const canary = "canary-value"
	v := FromString(canary)
	outputs := map[string]string{}
	for _, verb := range []string{"%v", "%+v", "%#v", "%s", "%q", "%x", "%X", "%d", "%10s"} {
		outputs[verb] = fmt.Sprintf(verb, v)
		outputs[verb+" in a struct"] = fmt.Sprintf(verb, struct{ V Value }{v})
		outputs[verb+" by pointer"] = fmt.Sprintf(verb, &v)
	}
	encoded, err := json.Marshal(map[string]any{"v": v, "list": []Value{v}})
	if err != nil {
		t.Fatal(err)
	}
	outputs["JSON"] = string(encoded)
	var log bytes.Buffer
	slog.New(slog.NewTextHandler(&log, nil)).Info("m", "v", v, "s", struct{ V Value }{v})
	slog.New(slog.NewJSONHandler(&log, nil)).Info("m", "v", v, slog.Group("g", "v", v))
	outputs["slog"] = log.String()
	outputs["error"] = fmt.Errorf("wrap: %v", v).Error()
	for what, output := range outputs {
		for _, form := range []string{canary, fmt.Sprintf("%x", canary), fmt.Sprintf("%X", canary), "99 97 110"} {
			if strings.Contains(output, form) {
				t.Errorf("%s shows the value: %s", what, output)
			}
		}
	}
}

func TestEqualComparesContent(t *testing.T) {
	if !FromString("a").Equal(FromString("a")) || FromString("a").Equal(FromString("b")) || FromString("a").Equal(Value{}) {
		t.Error("Equal is wrong")
	}
}
