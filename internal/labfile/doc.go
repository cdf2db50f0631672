// Package labfile is the language of lab files: it reads the text of a
// *.lab.yaml into a [Lab] and says what is wrong with it, every mistake in its
// place. The language is carried by YAML 1.2 (https://yaml.org/spec/1.2.2/).
//
// The package is pure. It opens no file and knows no clock; the one thing it
// needs from outside, the text of the scripts a lab file names, comes through
// a [Reader] that the caller gives.
package labfile
