package shape

import (
	"encoding"
	"encoding/json"
	"reflect"
	"strings"
	"sync"

	"github.com/invopop/jsonschema"
)

// describe is the schema of one type, with everything inside it in place.
func describe(t reflect.Type) *jsonschema.Schema {
	reflector := jsonschema.Reflector{DoNotReference: true, Anonymous: true, RequiredFromJSONSchemaTags: true}
	s := reflector.ReflectFromType(t)
	s.Version = ""
	return s
}

// Schema is the JSON Schema (draft 2020-12) of a lab file, for editors.
func Schema() []byte {
	s := describe(reflect.TypeFor[File]())
	s.Version = jsonschema.Version
	s.Title = "Kettlehole lab file"
	return text(s)
}

// SchemaOf is the JSON Schema (draft 2020-12) of a Go type that is printed as
// JSON.
func SchemaOf(t reflect.Type, title string) []byte {
	reflector := jsonschema.Reflector{DoNotReference: true, Anonymous: true, AllowAdditionalProperties: true,
		Mapper: func(t reflect.Type) *jsonschema.Schema {
			if t.Implements(reflect.TypeFor[encoding.TextMarshaler]()) && t.Kind() != reflect.Pointer {
				return kind("string")
			}
			return nil
		}}
	s := reflector.ReflectFromType(t)
	s.Title = title
	return text(s)
}

func text(s *jsonschema.Schema) []byte {
	var b strings.Builder
	encoder := json.NewEncoder(&b)
	encoder.SetEscapeHTML(false)
	encoder.SetIndent("", "  ")
	if err := encoder.Encode(s); err != nil {
		panic(err) // the types are ours
	}
	return []byte(b.String())
}

// Keys gives the keys of a type of this package, in the order of the file.
func Keys[T any]() []string { return table().keys[reflect.TypeFor[T]()] }

// table is what reflection finds, worked out once.
var table = sync.OnceValue(func() struct {
	keys   map[reflect.Type][]string
	owners map[string][]string
} {
	all, owners := map[reflect.Type][]string{}, map[string][]string{}
	for _, section := range append([]Section{{"the top of the file", reflect.TypeFor[File]()}}, Sections()...) {
		all[section.Type] = keys(section.Type)
		for _, name := range all[section.Type] {
			owners[name] = append(owners[name], section.Name)
		}
	}
	return struct {
		keys   map[reflect.Type][]string
		owners map[string][]string
	}{all, owners}
})

func keys(t reflect.Type) []string {
	var all []string
	for _, field := range reflect.VisibleFields(t) {
		all = append(all, key(field))
	}
	return all
}

func key(field reflect.StructField) string {
	name, _, _ := strings.Cut(field.Tag.Get("json"), ",")
	return name
}

// Owners gives, for a key that stands in the wrong place, the sections where
// it would be right: "groups", "steps".
func Owners(wanted string) []string { return table().owners[wanted] }

// Section is a part of a lab file that has keys of its own.
type Section struct {
	Name string // "groups"; with the place inside it, "steps, wait"
	Type reflect.Type
}

// Sections gives the parts of a lab file, in the order of the file.
func Sections() []Section {
	var all []Section
	var walk func(prefix string, t reflect.Type)
	walk = func(prefix string, t reflect.Type) {
		for _, field := range reflect.VisibleFields(t) {
			of := field.Type
			if named, ok := reflect.Zero(of).Interface().(interface{ element() reflect.Type }); ok {
				of = named.element()
			}
			if of.Kind() == reflect.Struct {
				name := prefix + key(field)
				all = append(all, Section{name, of})
				walk(name+", ", of)
			}
		}
	}
	walk("", reflect.TypeFor[File]())
	return all
}
