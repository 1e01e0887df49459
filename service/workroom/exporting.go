package workroom

import (
	"fmt"
	"io"
	"path/filepath"

	"lumtra/core/history"
	"lumtra/core/proof"
	"lumtra/core/report"
	"lumtra/service/workspace"
)

// ExportPlan writes a plan to w.
func (s *Room) ExportPlan(w io.Writer, name string, number int, f report.Format) error {
	p, err := s.PlanNumber(name, number)
	if err != nil {
		return err
	}
	defer p.Close()
	return report.Plan(w, p, f)
}

// ExportPlanTo writes a plan to a new file in dir and returns its path.
func (s *Room) ExportPlanTo(dir, name string, number int, f report.Format) (string, error) {
	path := filepath.Join(dir, fmt.Sprintf("%s-plan-%d.%s", name, number, f))
	return path, workspace.WriteFile(path, func(w io.Writer) error { return s.ExportPlan(w, name, number, f) })
}

// ExportRunTo writes the report of a run to a new file in dir and returns its
// path.
func (s *Room) ExportRunTo(dir string, r history.Run, f report.Format) (string, error) {
	path := filepath.Join(dir, fmt.Sprintf("%s-run-%s.%s", r.Job, r.Began.Format("20060102-150405"), f))
	return path, workspace.WriteFile(path, func(w io.Writer) error { return report.Run(w, &r, f) })
}

// ExportProof writes the document of a proof to w.
func (s *Room) ExportProof(w io.Writer, p *Proof, f report.Format) error {
	lines, err := proof.ReadDifferences(p.Dir, exportedDifferences)
	if err != nil {
		return err
	}
	return report.Proof(w, p.Summary, lines, f)
}

// exportedDifferences is how many differences the document of a proof shows; its folder
// has all.
const exportedDifferences = 200

// ExportProofTo writes the document of a proof to a new file in dir and returns
// its path.
func (s *Room) ExportProofTo(dir string, p *Proof, f report.Format) (string, error) {
	path := filepath.Join(dir, fmt.Sprintf("%s-proof-%d.%s", p.Job, p.Number, f))
	return path, workspace.WriteFile(path, func(w io.Writer) error { return s.ExportProof(w, p, f) })
}
