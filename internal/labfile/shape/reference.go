package shape

import (
	_ "embed"
	"fmt"
	"reflect"
	"slices"
	"strings"
	"text/template"
)

//go:embed reference.md.tmpl
var referenceText string

// Reference is docs/lab-file.md: what a person must know of the language, with
// a table of keys for each part, made from the types.
func Reference() string {
	t := template.Must(template.New("reference").Funcs(template.FuncMap{"keys": keysTable}).Parse(referenceText))
	var b strings.Builder
	if err := t.Execute(&b, nil); err != nil {
		panic(err) // the template is ours
	}
	return b.String()
}

// keysTable is the table of a section; "" is the whole file.
func keysTable(section string) (string, error) {
	of := reflect.TypeFor[File]()
	if section != "" {
		sections := Sections()
		at := slices.IndexFunc(sections, func(s Section) bool { return s.Name == section })
		if at < 0 {
			return "", fmt.Errorf("the language has no section %q", section)
		}
		of = sections[at].Type
	}
	fields := reflect.VisibleFields(of)
	defaults := slices.ContainsFunc(fields, func(f reflect.StructField) bool { return f.Tag.Get("without") != "" })
	var b strings.Builder
	b.WriteString("| key | is |")
	if defaults {
		b.WriteString(" without it |")
	}
	b.WriteString("\n|---|---|")
	if defaults {
		b.WriteString("---|")
	}
	for _, f := range fields {
		is := strings.ReplaceAll(f.Tag.Get("jsonschema_description"), "|", `\|`)
		required := strings.Contains(f.Tag.Get("jsonschema"), "required")
		if required && !defaults {
			is += " (must be there)"
		}
		fmt.Fprintf(&b, "\n| `%s` | %s |", key(f), is)
		if defaults {
			without := f.Tag.Get("without")
			if required {
				without = "must be there"
			}
			fmt.Fprintf(&b, " %s |", without)
		}
	}
	return b.String(), nil
}
