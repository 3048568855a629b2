// Package sample has programs that read one value, in the languages that people use: what the console and the command line show
// for an item comes from here and nowhere else, and is run in tests where the machine has the language.
package sample

import (
	"bytes"
	"embed"
	"fmt"
	"net/url"
	"text/template"

	"tansu/internal/core/reference"
)

//go:embed *.txt
var texts embed.FS

// Sample is a program that reads a value. It takes where the chest is and who it is from the environment, as package client does:
// TANSU_ADDRESS, TANSU_AUTHORITY, TANSU_APP and TANSU_SECRET_FILE.
type Sample struct {
	Language string // one of Languages
	Title    string // for people
	File     string // what it is called when it is put into a file
	Text     string
}

var languages = []Sample{
	{Language: "shell", Title: "Shell", File: "read.sh"}, {Language: "curl", Title: "curl", File: "read-curl.sh"},
	{Language: "go", Title: "Go", File: "main.go"},
	{Language: "python", Title: "Python", File: "read.py"}, {Language: "javascript", Title: "JavaScript", File: "read.mjs"},
	{Language: "java", Title: "Java", File: "Read.java"}, {Language: "csharp", Title: "C#", File: "Program.cs"},
}

var templates = template.Must(template.ParseFS(texts, "*.txt"))

// For makes the samples for a reference, whose parts are names and need no quoting in any of the languages.
func For(ref reference.Reference) (list []Sample, err error) {
	item := ref.Item
	if ref.Version != 0 {
		item = fmt.Sprintf("%s@%d", item, ref.Version)
	}
	path := "/api/values/" + ref.Drawer + "/" + url.PathEscape(item)
	if ref.Field != "" {
		path += "?field=" + url.QueryEscape(ref.Field)
	}
	for _, s := range languages {
		var text bytes.Buffer
		if err := templates.ExecuteTemplate(&text, s.Language+".txt", map[string]string{"Reference": ref.String(), "Path": path}); err != nil {
			return nil, fmt.Errorf("write a sample: %w", err)
		}
		s.Text = text.String()
		list = append(list, s)
	}
	return list, nil
}
