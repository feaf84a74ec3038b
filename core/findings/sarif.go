package findings

import (
	"net/url"
	"slices"

	"steady-compass/core/codes"
)

// The parts of SARIF 2.1.0 (OASIS) that a report uses.
type (
	sarifLog struct {
		Schema  string     `json:"$schema"`
		Version string     `json:"version"`
		Runs    []sarifRun `json:"runs"`
	}
	sarifRun struct {
		Tool    sarifTool     `json:"tool"`
		Results []sarifResult `json:"results"`
	}
	sarifTool struct {
		Driver sarifDriver `json:"driver"`
	}
	sarifDriver struct {
		Name  string      `json:"name"`
		Rules []sarifRule `json:"rules"`
	}
	sarifRule struct {
		ID      string        `json:"id"`
		Short   sarifText     `json:"shortDescription"`
		Full    sarifText     `json:"fullDescription"`
		Default sarifDefaults `json:"defaultConfiguration"`
	}
	sarifDefaults struct {
		Level string `json:"level"`
	}
	sarifResult struct {
		RuleID    string            `json:"ruleId"`
		Level     string            `json:"level"`
		Message   sarifText         `json:"message"`
		Locations []sarifLocation   `json:"locations"`
		Prints    map[string]string `json:"partialFingerprints"`
	}
	sarifText struct {
		Text string `json:"text"`
	}
	sarifLocation struct {
		Physical *sarifPhysical `json:"physicalLocation,omitempty"`
		Logical  []sarifLogical `json:"logicalLocations"`
	}
	sarifPhysical struct {
		Artifact sarifArtifact `json:"artifactLocation"`
	}
	sarifArtifact struct {
		URI string `json:"uri"`
	}
	sarifLogical struct {
		Name string `json:"fullyQualifiedName"`
	}
)

// SARIF is a report as SARIF 2.1.0, its codes as rules; file is the estate file, "" for a database.
func SARIF(r Report, file string) any {
	run := sarifRun{Tool: sarifTool{sarifDriver{Name: "steady-compass", Rules: []sarifRule{}}}, Results: []sarifResult{}}
	for _, f := range r.Findings {
		if !slices.ContainsFunc(run.Tool.Driver.Rules, func(x sarifRule) bool { return x.ID == f.Code }) {
			c, _ := codes.Of(f.Code)
			run.Tool.Driver.Rules = append(run.Tool.Driver.Rules, sarifRule{f.Code, sarifText{c.Title}, sarifText{c.Help}, sarifDefaults{string(c.Level)}})
		}
		at := sarifLocation{Logical: []sarifLogical{{f.Subject}}}
		if file != "" && file != "-" {
			at.Physical = &sarifPhysical{sarifArtifact{(&url.URL{Path: file}).String()}} // a URI reference: §3.4.3
		}
		run.Results = append(run.Results, sarifResult{
			f.Code, string(f.Level),
			sarifText{f.Subject + ": " + f.Why},
			[]sarifLocation{at},
			map[string]string{"subject/v1": f.Code + " " + f.Subject},
		})
	}
	return sarifLog{"https://json.schemastore.org/sarif-2.1.0.json", "2.1.0", []sarifRun{run}}
}
