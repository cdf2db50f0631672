package cli

import (
	"fmt"
	"os"

	"github.com/spf13/cobra"

	"kettlehole/internal/api"
	"kettlehole/internal/labfile"
	"kettlehole/internal/workstation"
)

// mapFlags are the flags that say how a lab file is laid on this workstation.
type mapFlags struct {
	tight  bool
	values []string
	files  []string
}

func (f *mapFlags) add(cmd *cobra.Command) {
	cmd.Flags().StringArrayVarP(&f.values, "input", "i", nil, "give an input a value: name=value (may be repeated)")
	cmd.Flags().StringArrayVar(&f.files, "input-file", nil, "a YAML file with values for inputs")
	cmd.Flags().BoolVar(&f.tight, "tight", false, "promise the nodes more memory than there is")
}

// wish is what a command line says of a lab file.
type wish struct {
	file  string
	given []labfile.Given
	tight bool
	ways  api.Ways
	facts *workstation.Facts // nil to read them
}

// of reads the flags for a file.
func (f *mapFlags) of(file string) (wish, error) {
	given, err := f.given()
	return wish{file: file, given: given, tight: f.tight}, err
}

// given are the values, the strongest first: flags, the last said before the
// first; files likewise; the environment.
func (f *mapFlags) given() ([]labfile.Given, error) {
	var all []labfile.Given
	for i := len(f.values) - 1; i >= 0; i-- {
		one, err := labfile.ParseGiven(f.values[i], "-i")
		if err != nil {
			return nil, &exit{ExitUse, err}
		}
		all = append(all, one)
	}
	for i := len(f.files) - 1; i >= 0; i-- {
		source, err := os.ReadFile(f.files[i])
		if err != nil {
			return nil, wrongUse("reading the file of inputs: %w", err)
		}
		some, findings := labfile.ParseInputs(source, f.files[i])
		if findings.Count(labfile.Error) > 0 {
			return nil, &exit{ExitUse, fmt.Errorf("the file of inputs has errors:\n%s", findings.Text(f.files[i], source))}
		}
		all = append(all, some...)
	}
	return append(all, labfile.GivenByEnvironment(os.Environ())...), nil
}
