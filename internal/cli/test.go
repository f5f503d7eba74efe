package cli

import (
	"encoding/xml"
	"fmt"
	"os"
	"slices"
	"strings"

	"github.com/spf13/cobra"

	"hollowreed/internal/core/project"
)

func (e env) test() *cobra.Command {
	var junit string
	c := &cobra.Command{
		Use:   "test FOLDER",
		Short: "Run the cases of a project's mappings and flows",
		Long: `Runs every case of the project and says which came out other than expected, field by field. A flow's
case is answered by what it remembers of other systems: none is reached. The exit code is 1 when a case failed.`,
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
	var suites report
	for _, c := range p.CasesOf("") {
		r := p.RunCase(c)
		suites.add(e, c.Of(), c.Title, toldOf(&r))
	}
	for _, part := range p.Parts(project.Libraries) {
		for _, r := range p.Library(part.ID).Run(p.EnvOf(part.ID)) {
			suites.add(e, part.ID, r.Case.Call.Value, r.Failure())
		}
	}
	failed, all := suites.counts()
	fmt.Fprintf(e.out, "%s, %d failed\n", count(all, "case"), failed)
	if junit != "" {
		if err := writeJUnit(junit, suites); err != nil {
			return err
		}
	}
	if failed > 0 {
		return errFaults
	}
	return nil
}

// toldOf is what went wrong in a case; empty when nothing did.
func toldOf(r *project.Result) string {
	var lines []string
	if r.Fault != nil {
		lines = append(lines, r.Fault.Error())
	}
	for _, d := range r.Differences {
		lines = append(lines, d.String())
	}
	return strings.Join(lines, "\n")
}

// report is the cases that were run, by mapping or library, in the order in which they first came.
type report []*junitSuite

// add writes how a case went and keeps it.
func (s *report) add(e env, of, title, told string) {
	if told == "" {
		fmt.Fprintf(e.out, "ok    %s: %s\n", of, title)
	} else {
		fmt.Fprintf(e.out, "FAIL  %s: %s\n      %s\n", of, title, strings.ReplaceAll(told, "\n", "\n      "))
	}
	at := slices.IndexFunc(*s, func(x *junitSuite) bool { return x.Name == of })
	if at < 0 {
		at = len(*s)
		*s = append(*s, &junitSuite{Name: of})
	}
	(*s)[at].add(title, told)
}

func (s report) counts() (failed, all int) {
	for _, x := range s {
		failed, all = failed+x.Failures, all+x.Tests
	}
	return failed, all
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

func (s *junitSuite) add(title, failure string) {
	tc := junitCase{Name: title, Class: s.Name}
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
