// Package shape is the written form of a lab file as Go types: which keys
// there are, what stands under each, and a sentence about it. The JSON Schema
// for editors, the reference in docs/lab-file.md and the list of keys that the
// parser knows are all made from these types, so that they cannot differ.
//
// A field's tags are: json, the key; jsonschema_description, what it is, in
// English; without, what holds where the key is left out.
package shape
