package report

import (
	"kamerad.example/core/contract"
	"kamerad.example/core/syntax"
)

// Report is what is computed of a version when it is published, and kept with it.
type Report struct {
	Fingerprint string            `json:"fingerprint"`
	Findings    syntax.Problems   `json:"findings"`
	Matrix      *Matrix           `json:"matrix"`
	Cost        *Cost             `json:"cost"`    // with 16 clients, or as many as have seats
	Outline     *contract.Outline `json:"outline"` // what clients are given
}

// New returns the report of a contract and of the warnings that it was read with.
//
// The contract has to be without a mistake, and is not kept: the report may outlive it.
func New(c *contract.Contract, findings syntax.Problems) Report {
	if findings == nil {
		findings = syntax.Problems{}
	}
	cost, _ := NewCost(c, min(c.Seats, 16), nil) // within all bounds
	outline := c.Outline()
	return Report{outline.Fingerprint(), findings, NewMatrix(c), cost, outline}
}
