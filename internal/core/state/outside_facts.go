package state

import (
	"fmt"
	"strings"
	"time"

	"lanternfield/internal/core/field"
	"lanternfield/internal/core/trust"
)

// CertificateInstalled says that the members of a role show a certificate from outside to those who reach them by its names.
type CertificateInstalled struct {
	Role    field.RoleName
	Outside trust.Outside
	By      string
}

// CertificateRemoved says that they do so no longer.
type CertificateRemoved struct {
	Role field.RoleName
	By   string
}

func (f CertificateInstalled) apply(s *State, _ time.Time) {
	r, of := s.ensureRole(f.Role), f.Outside
	r.Outside, r.OutsideCount = &of, of.Number
	s.Shape++
}

// Sentence words the fact for the journal.
func (f CertificateInstalled) Sentence() string {
	return fmt.Sprintf("%s shows a certificate from outside, for %s, until %s; installed by %s", f.Role, strings.Join(f.Outside.Names, ", "), f.Outside.Until.Local().Format("2 Jan 2006"), f.By)
}

func (f CertificateRemoved) apply(s *State, _ time.Time) {
	s.ensureRole(f.Role).Outside = nil
	s.Shape++
}

// Sentence words the fact for the journal.
func (f CertificateRemoved) Sentence() string {
	return fmt.Sprintf("%s shows its certificate from outside no longer, asked for by %s", f.Role, f.By)
}

// SupposeOutside has a role show another certificate from outside.
func (s *State) SupposeOutside(role field.RoleName, of *trust.Outside) {
	if of == nil {
		CertificateRemoved{Role: role}.apply(s, time.Time{})
		return
	}
	CertificateInstalled{Role: role, Outside: *of}.apply(s, time.Time{})
}
