package cli

import (
	"fmt"
	"os"

	"github.com/spf13/cobra"

	"kettlehole/internal/labfile"
)

// inputFlags are the flags that give values for a lab file's inputs.
type inputFlags struct {
	values []string
	files  []string
}

func (f *inputFlags) add(cmd *cobra.Command) {
	cmd.Flags().StringArrayVarP(&f.values, "input", "i", nil, "give an input a value: name=value (may be repeated)")
	cmd.Flags().StringArrayVar(&f.files, "input-file", nil, "a YAML file with values for inputs")
}

// given are the values, the strongest first: flags, the last said before the
// first; files likewise; the environment.
func (f *inputFlags) given() ([]labfile.Given, error) {
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
