package service

import (
	"errors"
	"fmt"
	"io"
	"os"
	"path/filepath"

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
	file, err := os.OpenFile(path, os.O_WRONLY|os.O_CREATE|os.O_TRUNC, 0o644)
	if err != nil {
		return "", err
	}
	if err := errors.Join(s.ExportPlan(file, name, number, f), file.Close()); err != nil {
		os.Remove(path)
		return "", err
	}
	return path, nil
}
