package httpapi

import (
	"bytes"
	"encoding/json"
	"errors"
	"fmt"
	"io"
	"net/http"
	"reflect"
	"strings"
	"unicode/utf8"

	"tansu/internal/service"
)

// Limits of a request body. A version's value is 256 KiB, a third more in base64, and room for what is around it.
const (
	smallBody  = 16 << 10
	valueBody  = 400 << 10
	maxNesting = 8
)

// decode reads a JSON body strictly: one object, no unknown, repeated or wrongly cased field, no deep nesting, nothing
// after it. Nothing of the body is repeated in an error but field names.
func decode(w http.ResponseWriter, r *http.Request, limit int64, into any) error {
	if kind, _, _ := strings.Cut(r.Header.Get("Content-Type"), ";"); strings.TrimSpace(kind) != "application/json" {
		return &service.Error{Code: service.InvalidInput, Field: "Content-Type", Detail: "the body must be application/json"}
	}
	body, err := io.ReadAll(http.MaxBytesReader(w, r.Body, limit))
	var tooLarge *http.MaxBytesError
	switch {
	case errors.As(err, &tooLarge):
		return &service.Error{Code: service.TooLarge, Detail: fmt.Sprintf("the body is larger than %d bytes", limit)}
	case err != nil:
		return &service.Error{Code: service.InvalidInput, Detail: "the body did not arrive whole"}
	case !utf8.Valid(body):
		return &service.Error{Code: service.InvalidInput, Detail: "the body is not UTF-8"}
	}
	if err := checkShape(body); err != nil {
		return err
	}
	decoder := json.NewDecoder(bytes.NewReader(body))
	decoder.DisallowUnknownFields()
	return decodeError(decoder.Decode(into), into)
}

func decodeError(err error, into any) error {
	if err == nil {
		return nil
	}
	var wrongType *json.UnmarshalTypeError
	if errors.As(err, &wrongType) {
		return &service.Error{Code: service.InvalidInput, Field: wrongType.Field,
			Detail: fmt.Sprintf("%s is a JSON %s; allowed: %s", wrongType.Field, wrongType.Value, typeName(wrongType.Type))}
	}
	if name, found := strings.CutPrefix(err.Error(), "json: unknown field "); found {
		name = strings.Trim(name, `"`)
		return &service.Error{Code: service.InvalidInput, Field: name, Detail: fmt.Sprintf("there is no field %q; allowed: %s", name, strings.Join(fieldNames(into), ", "))}
	}
	if strings.Contains(err.Error(), "parsing time") || strings.Contains(err.Error(), "Time.UnmarshalJSON") {
		return &service.Error{Code: service.InvalidInput, Field: "time", Detail: "a time is not in RFC 3339 form, such as 2026-11-23T08:00:00Z"}
	}
	return &service.Error{Code: service.InvalidInput, Detail: "the body is not the JSON that this route takes"}
}

func typeName(t reflect.Type) string {
	switch t.Kind() {
	case reflect.String:
		return "a string"
	case reflect.Bool:
		return "true or false"
	case reflect.Struct:
		return "an object"
	default:
		return "a " + t.Kind().String()
	}
}

func fieldNames(into any) (names []string) {
	t := reflect.TypeOf(into).Elem()
	for i := range t.NumField() {
		name, _, _ := strings.Cut(t.Field(i).Tag.Get("json"), ",")
		names = append(names, name)
	}
	return names
}

// checkShape reads the tokens of a body for what encoding/json lets pass.
func checkShape(body []byte) error {
	decoder := json.NewDecoder(bytes.NewReader(body))
	first, err := decoder.Token()
	if err != nil || first != json.Delim('{') {
		return &service.Error{Code: service.InvalidInput, Detail: "the body is not a JSON object"}
	}
	if err := checkObject(decoder, 1); err != nil {
		return err
	}
	if _, err := decoder.Token(); !errors.Is(err, io.EOF) {
		return &service.Error{Code: service.InvalidInput, Detail: "there is something after the JSON object"}
	}
	return nil
}

// checkObject checks an object whose opening brace has been read.
func checkObject(decoder *json.Decoder, depth int) error {
	seen := map[string]bool{}
	for decoder.More() {
		token, err := decoder.Token()
		if err != nil {
			return badJSON(decoder)
		}
		name, _ := token.(string)
		if seen[name] {
			return &service.Error{Code: service.InvalidInput, Field: name, Detail: fmt.Sprintf("the field %.64q is there twice", name)}
		}
		if name != strings.ToLower(name) {
			return &service.Error{Code: service.InvalidInput, Field: name, Detail: fmt.Sprintf("the field %.64q is not in lower case", name)}
		}
		seen[name] = true
		if err := checkValue(decoder, depth); err != nil {
			return err
		}
	}
	return closing(decoder)
}

func checkValue(decoder *json.Decoder, depth int) error {
	token, err := decoder.Token()
	if err != nil {
		return badJSON(decoder)
	}
	delimiter, nested := token.(json.Delim)
	if !nested {
		return nil
	}
	if depth == maxNesting {
		return &service.Error{Code: service.InvalidInput, Detail: fmt.Sprintf("the body is nested more than %d deep", maxNesting)}
	}
	if delimiter == '{' {
		return checkObject(decoder, depth+1)
	}
	for decoder.More() {
		if err := checkValue(decoder, depth+1); err != nil {
			return err
		}
	}
	return closing(decoder)
}

func closing(decoder *json.Decoder) error {
	if _, err := decoder.Token(); err != nil {
		return badJSON(decoder)
	}
	return nil
}

func badJSON(decoder *json.Decoder) error {
	return &service.Error{Code: service.InvalidInput, Detail: fmt.Sprintf("the body is not valid JSON near byte %d", decoder.InputOffset())}
}
