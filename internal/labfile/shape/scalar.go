package shape

import (
	"encoding/json"
	"reflect"
	"strconv"

	"github.com/invopop/jsonschema"
)

// Named is a mapping from names to values of one type.
type Named[T any] map[string]T

// The scalars of the language, as they are written.
type (
	Text      string // any text
	Label     string // a DNS label (RFC 1035, section 2.3.1)
	Path      string // a file beside the lab file
	Script    string // shell text, never rewritten
	Bool      bool   // true or false
	Number    string // a number
	Value     string // a number, a text, true or false
	Count     string // a whole number
	Cores     string // a number of cores
	Size      string // a number with K, M or G
	Duration  string // a Go duration, such as 30s or 1m30s
	Port      string // 1 to 65535
	Status    string // an HTTP status
	Times     string // 1 to 100
	AtOnce    string // a whole number or all
	Substrate string // container or vm
	Subnet    string // a prefix, auto, or two of them
	Range     string // a prefix
	Hosts     string // .200-.219 or .5
	Selection string // which nodes
	Forward   string // 8080 -> gate-1:80
	Names     []string
	Values    []string
	Gives     []string
	Taps      []string
)

// input is how an input stands in place of a value.
const input = `^.*\$\{[a-z_][a-z0-9_]*\}.*$`

func pattern(p string) *jsonschema.Schema { return &jsonschema.Schema{Type: "string", Pattern: p} }

func kind(k string) *jsonschema.Schema { return &jsonschema.Schema{Type: k} }

func oneOf(schemas ...*jsonschema.Schema) *jsonschema.Schema {
	return &jsonschema.Schema{AnyOf: schemas}
}

// orInput lets a value be made of inputs.
func orInput(schemas ...*jsonschema.Schema) *jsonschema.Schema {
	return oneOf(append(schemas, pattern(input))...)
}

func scalar() *jsonschema.Schema { return oneOf(kind("string"), kind("number"), kind("boolean")) }

func list(of *jsonschema.Schema) *jsonschema.Schema {
	return &jsonschema.Schema{Type: "array", Items: of}
}

func whole(low, high int) *jsonschema.Schema {
	return &jsonschema.Schema{Type: "integer", Minimum: json.Number(strconv.Itoa(low)), Maximum: json.Number(strconv.Itoa(high))}
}

// The following describe the scalars to JSON Schema 2020-12.

// JSONSchema describes a text.
func (Text) JSONSchema() *jsonschema.Schema { return scalar() }

// JSONSchema describes a DNS label.
func (Label) JSONSchema() *jsonschema.Schema { return orInput(pattern(label)) }

// JSONSchema describes a path.
func (Path) JSONSchema() *jsonschema.Schema { return kind("string") }

// JSONSchema describes a script.
func (Script) JSONSchema() *jsonschema.Schema { return kind("string") }

// JSONSchema describes true or false.
func (Bool) JSONSchema() *jsonschema.Schema { return orInput(kind("boolean")) }

// JSONSchema describes a number.
func (Number) JSONSchema() *jsonschema.Schema { return orInput(kind("number")) }

// JSONSchema describes an input's value.
func (Value) JSONSchema() *jsonschema.Schema { return scalar() }

// JSONSchema describes a count of nodes.
func (Count) JSONSchema() *jsonschema.Schema { return orInput(whole(0, 10000)) }

// JSONSchema describes a number of cores.
func (Cores) JSONSchema() *jsonschema.Schema {
	return orInput(&jsonschema.Schema{Type: "number", Minimum: "0.01", Maximum: "1024"})
}

// JSONSchema describes a size.
func (Size) JSONSchema() *jsonschema.Schema { return orInput(pattern(`^[0-9]+(\.[0-9]+)?[KMG]$`)) }

// JSONSchema describes a duration.
func (Duration) JSONSchema() *jsonschema.Schema {
	return orInput(pattern(`^([0-9]+(\.[0-9]+)?(ms|s|m|h))+$`))
}

// JSONSchema describes a port.
func (Port) JSONSchema() *jsonschema.Schema { return orInput(whole(1, 65535)) }

// JSONSchema describes an HTTP status.
func (Status) JSONSchema() *jsonschema.Schema { return orInput(whole(100, 599)) }

// JSONSchema describes a number of attempts.
func (Times) JSONSchema() *jsonschema.Schema { return orInput(whole(1, 100)) }

// JSONSchema describes a bound of concurrency.
func (AtOnce) JSONSchema() *jsonschema.Schema {
	return orInput(whole(1, 10000), &jsonschema.Schema{Const: "all"})
}

// JSONSchema describes a substrate.
func (Substrate) JSONSchema() *jsonschema.Schema {
	return orInput(&jsonschema.Schema{Enum: []any{"container", "vm"}})
}

// prefixes is how ranges are written (RFC 4632, section 3.1; RFC 4291, section
// 2.3).
const prefixes = `^([0-9.]+|[0-9a-fA-F:]+)/[0-9]+$`

// JSONSchema describes a subnet.
func (Subnet) JSONSchema() *jsonschema.Schema {
	one := []*jsonschema.Schema{pattern(prefixes), {Const: "auto"}, pattern(input)}
	two := uint64(2)
	return oneOf(append(one, &jsonschema.Schema{Type: "array", Items: oneOf(one...), MaxItems: &two})...)
}

// JSONSchema describes a range.
func (Range) JSONSchema() *jsonschema.Schema { return orInput(pattern(prefixes)) }

// JSONSchema describes places on a network.
func (Hosts) JSONSchema() *jsonschema.Schema {
	return orInput(pattern(`^(\.[0-9]+){1,3}(-(\.[0-9]+){1,3})?$`), kind("number"))
}

// JSONSchema describes a selection of nodes.
func (Selection) JSONSchema() *jsonschema.Schema { return orInput(pattern(`^\s*[a-z][a-z0-9-., ]*$`)) }

// JSONSchema describes a forward.
func (Forward) JSONSchema() *jsonschema.Schema {
	return orInput(pattern(`^\s*(\S+:)?(auto|[0-9]+(-[0-9]+)?)\s*->\s*[a-z][a-z0-9-]*:[0-9]+(-[0-9]+)?(/(tcp|udp))?\s*$`))
}

// JSONSchema describes a name or a list of names.
func (Names) JSONSchema() *jsonschema.Schema { return oneOf(kind("string"), list(kind("string"))) }

// JSONSchema describes a list of values.
func (Values) JSONSchema() *jsonschema.Schema { return list(scalar()) }

// JSONSchema describes the values that a step gives.
func (Gives) JSONSchema() *jsonschema.Schema {
	name := pattern(variable)
	return oneOf(name, list(name), &jsonschema.Schema{Type: "object", PropertyNames: name,
		AdditionalProperties: &jsonschema.Schema{Enum: []any{"text", "secret"}}})
}

// JSONSchema describes the places of a group on networks.
func (Taps) JSONSchema() *jsonschema.Schema {
	place := oneOf(pattern(`^(\.[0-9]+){1,3}$`), kind("number"), kind("null"), &jsonschema.Schema{Const: "auto"}, pattern(input))
	return oneOf(kind("string"), list(kind("string")), &jsonschema.Schema{Type: "object", AdditionalProperties: place})
}

const (
	label    = `^[a-z]([a-z0-9-]{0,61}[a-z0-9])?$`
	variable = `^[a-z_][a-z0-9_]{0,62}$`
)

// free are the mappings whose names are sentences, paths or variables.
var free = map[reflect.Type]bool{
	reflect.TypeFor[Check](): true, reflect.TypeFor[Drill](): true, reflect.TypeFor[Retrieve](): true,
	reflect.TypeFor[Path](): true, reflect.TypeFor[Text](): true,
}

// JSONSchema describes a mapping of names.
func (Named[T]) JSONSchema() *jsonschema.Schema {
	of := reflect.TypeFor[T]()
	s := &jsonschema.Schema{Type: "object", AdditionalProperties: describe(of)}
	switch {
	case of == reflect.TypeFor[Input]():
		s.PropertyNames = pattern(variable)
		s.AdditionalProperties = oneOf(kind("string"), kind("number"), kind("boolean"), s.AdditionalProperties)
	case of == reflect.TypeFor[Group](), of == reflect.TypeFor[Network]():
		s.PropertyNames = pattern(label)
		s.AdditionalProperties = oneOf(s.AdditionalProperties, kind("null"))
	case !free[of]:
		s.PropertyNames = pattern(label)
	}
	return s
}

func (Named[T]) element() reflect.Type { return reflect.TypeFor[T]() }
