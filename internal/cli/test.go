package cli

import (
	"encoding/xml"
	"fmt"
	"os"
	"strings"

	"github.com/spf13/cobra"

	"hollowreed/internal/core/project"
)

func (e env) test() *cobra.Command {
	var junit string
	c := &cobra.Command{
		Use:   "test FOLDER",
		Short: "Run the cases of a project's mappings",
		Long: `Runs every case of the project and says which came out other than expected, field by field. The
exit code is 1 when one did.`,
		Example: "  hollowreed test demo\n  hollowreed test demo --junit cases.xml",
		Args:    cobra.ExactArgs(1),
		RunE: func(_ *cobra.Command, args []string) error {
			p, err := load(args[0])
			if err != nil {
				return err
			}
			return e.runCases(p, junit)
		},
	}
	c.Flags().StringVar(&junit, "junit", "", "write the results as JUnit XML to this file, too")
	return c
}

func (e env) runCases(p *project.Project, junit string) error {
	failed := 0
	suites := map[string]*junitSuite{}
	var order []*junitSuite
	cases := p.CasesOf("")
	for _, c := range cases {
		r := p.RunCase(c)
		suite := suites[c.Mapping]
		if suite == nil {
			suite = &junitSuite{Name: c.Mapping}
			suites[c.Mapping] = suite
			order = append(order, suite)
		}
		told := e.outcome(&r)
		suite.add(c, told)
		if told != "" {
			failed++
		}
	}
	fmt.Fprintf(e.out, "%s, %d failed\n", count(len(cases), "case"), failed)
	if junit != "" {
		if err := writeJUnit(junit, order); err != nil {
			return err
		}
	}
	if failed > 0 {
		return errFaults
	}
	return nil
}

// outcome writes how a case went, and gives what went wrong.
func (e env) outcome(r *project.Result) string {
	if r.OK() {
		fmt.Fprintf(e.out, "ok    %s: %s\n", r.Case.Mapping, r.Case.Title)
		return ""
	}
	var lines []string
	if r.Fault != nil {
		lines = append(lines, r.Fault.Error())
	}
	for _, d := range r.Differences {
		lines = append(lines, d.String())
	}
	fmt.Fprintf(e.out, "FAIL  %s: %s\n      %s\n", r.Case.Mapping, r.Case.Title, strings.Join(lines, "\n      "))
	return strings.Join(lines, "\n")
}

// junitSuite and junitCase are the elements of JUnit's report that its readers agree on.
type junitSuite struct {
	XMLName  xml.Name    `xml:"testsuite"`
	Name     string      `xml:"name,attr"`
	Tests    int         `xml:"tests,attr"`
	Failures int         `xml:"failures,attr"`
	Cases    []junitCase `xml:"testcase"`
}

type junitCase struct {
	Name    string        `xml:"name,attr"`
	Class   string        `xml:"classname,attr"`
	Failure *junitFailure `xml:"failure,omitempty"`
}

type junitFailure struct {
	Message string `xml:"message,attr"`
	Text    string `xml:",chardata"`
}

func (s *junitSuite) add(c project.Case, failure string) {
	tc := junitCase{Name: c.Title, Class: c.Mapping}
	if s.Tests++; failure != "" {
		s.Failures++
		first, _, _ := strings.Cut(failure, "\n")
		tc.Failure = &junitFailure{Message: first, Text: failure}
	}
	s.Cases = append(s.Cases, tc)
}

func writeJUnit(path string, suites []*junitSuite) error {
	out, err := xml.MarshalIndent(struct {
		XMLName xml.Name `xml:"testsuites"`
		Suites  []*junitSuite
	}{Suites: suites}, "", "  ")
	if err != nil {
		return err
	}
	return os.WriteFile(path, append([]byte(xml.Header), append(out, '\n')...), 0o644)
}
