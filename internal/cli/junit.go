package cli

import (
	"encoding/xml"
	"errors"
	"fmt"
	"os"
	"strings"
	"time"

	"kettlehole/internal/api"
)

// The shape of a report in JUnit's XML, as CI systems read it: a suite for the
// run, a case for each step on each node.
type (
	junitSuite struct {
		XMLName  xml.Name    `xml:"testsuite"`
		Name     string      `xml:"name,attr"`
		Tests    int         `xml:"tests,attr"`
		Failures int         `xml:"failures,attr"`
		Skipped  int         `xml:"skipped,attr"`
		Time     string      `xml:"time,attr"` // seconds
		Stamp    string      `xml:"timestamp,attr"`
		Cases    []junitCase `xml:"testcase"`
	}
	junitCase struct {
		Class   string        `xml:"classname,attr"`
		Name    string        `xml:"name,attr"`
		Time    string        `xml:"time,attr"`
		Failure *junitFailure `xml:"failure,omitempty"`
		Skipped *junitSkipped `xml:"skipped,omitempty"`
	}
	junitFailure struct {
		Message string `xml:"message,attr"`
		Text    string `xml:",chardata"`
	}
	junitSkipped struct {
		Message string `xml:"message,attr"`
	}
)

// junit makes the report of a run that has ended. A step that never began is
// skipped; a node that failed without a step is a failure of its own.
func junit(s api.State) junitSuite {
	seconds := func(d time.Duration) string { return fmt.Sprintf("%.3f", max(d, 0).Seconds()) }
	suite := junitSuite{Name: fmt.Sprintf("%s run %d", s.Lab, s.Run.N), Time: seconds(s.Run.Ended.Sub(s.Run.Started)), Stamp: s.Run.Started.UTC().Format("2006-01-02T15:04:05")}
	failed := map[string]bool{}
	for _, c := range s.Cells {
		one := junitCase{Class: c.Node, Name: c.Step, Time: seconds(0)}
		switch c.State {
		case api.Done:
			one.Time = seconds(c.Ended.Sub(c.Started))
		case api.Failed:
			one.Time = seconds(c.Ended.Sub(c.Started))
			one.Failure = &junitFailure{Message: clean(c.Reason), Text: clean(c.Tail)}
			failed[c.Node] = true
			suite.Failures++
		case api.Reused:
		default:
			one.Skipped = &junitSkipped{Message: clean(strings.TrimSpace("it did not begin: " + c.Reason))}
			suite.Skipped++
		}
		suite.Cases = append(suite.Cases, one)
	}
	for _, n := range s.Nodes {
		if (n.State == api.Failed || n.State == api.Lost) && !failed[n.Name] {
			suite.Cases = append(suite.Cases, junitCase{Class: n.Name, Name: "the node", Time: seconds(0), Failure: &junitFailure{Message: clean(n.State + ": " + n.Reason)}})
			suite.Failures++
		}
	}
	suite.Tests = len(suite.Cases)
	return suite
}

// writeJUnit writes the report of a run into a file.
func writeJUnit(file string, s api.State) error {
	text, err := xml.MarshalIndent(junit(s), "", "  ")
	if err != nil {
		return fmt.Errorf("making the report: %w", err)
	}
	if err := os.WriteFile(file, append([]byte(xml.Header), append(text, '\n')...), 0o644); err != nil {
		return &exit{ExitWorkstation, errors.Join(errors.New("writing the report"), err)}
	}
	return nil
}
