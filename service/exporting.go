package service

import (
	"errors"
	"fmt"
	"io"
	"os"
	"path/filepath"

	"lumtra/core/history"
	"lumtra/core/proof"
	"lumtra/core/report"
)

// ExportPlan writes a plan to w.
func (s *Service) ExportPlan(w io.Writer, name string, number int, f report.Format) error {
	p, err := s.PlanNumber(name, number)
	if err != nil {
		return err
	}
	defer p.Close()
	return report.Plan(w, p, f)
}

// ExportPlanTo writes a plan to a new file in dir and returns its path.
func (s *Service) ExportPlanTo(dir, name string, number int, f report.Format) (string, error) {
	path := filepath.Join(dir, fmt.Sprintf("%s-plan-%d.%s", name, number, f))
	return path, writeFile(path, func(w io.Writer) error { return s.ExportPlan(w, name, number, f) })
}

// ExportRunTo writes the report of a run to a new file in dir and returns its
// path.
func (s *Service) ExportRunTo(dir string, r history.Run, f report.Format) (string, error) {
	path := filepath.Join(dir, fmt.Sprintf("%s-run-%s.%s", r.Job, r.Began.Format("20060102-150405"), f))
	return path, writeFile(path, func(w io.Writer) error { return report.Run(w, &r, f) })
}

// ExportProofTo writes the document of a proof to a new file in dir and returns
// its path.
func (s *Service) ExportProofTo(dir string, p *Proof, f report.Format) (string, error) {
	lines, err := proof.ReadDifferences(p.Dir, 200)
	if err != nil {
		return "", err
	}
	path := filepath.Join(dir, fmt.Sprintf("%s-proof-%d.%s", p.Job, p.Number, f))
	return path, writeFile(path, func(w io.Writer) error { return report.Proof(w, p.Summary, lines, f) })
}

// writeFile makes a file of what write writes, or none.
func writeFile(path string, write func(io.Writer) error) error {
	file, err := os.OpenFile(path, os.O_WRONLY|os.O_CREATE|os.O_TRUNC, 0o644)
	if err != nil {
		return err
	}
	if err := errors.Join(write(file), file.Close()); err != nil {
		os.Remove(path)
		return err
	}
	return nil
}
