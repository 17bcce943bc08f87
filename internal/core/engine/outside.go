package engine

import (
	"fmt"

	"lanternfield/internal/core/field"
	"lanternfield/internal/core/state"
	"lanternfield/internal/core/trust"
)

// InstallCertificate has the members of a role show a certificate from outside to those who reach them by its names. It is in the keyring.
type InstallCertificate struct {
	Role    field.RoleName
	Outside trust.Outside
	By      string
}

// RemoveCertificate ends that.
type RemoveCertificate struct {
	Role field.RoleName
	By   string
}

// ShowsOutside refuses a role that cannot show a certificate from outside.
func ShowsOutside(s *state.State, name field.RoleName) error {
	if err := guardOrder(s, "install a certificate in"); err != nil {
		return err
	}
	role := s.Field.Role(name)
	if role == nil {
		return fmt.Errorf("there is no role %q", name)
	}
	if !role.Program.TakesOutside() {
		return fmt.Errorf("%s cannot show a certificate from outside: its program shows the same one to members and to clients, and members believe the field's own authority. Put an entry before it that speaks TLS itself, such as haproxy with mode: http", name)
	}
	if !s.Field.Secure(role) {
		return fmt.Errorf("%s speaks no TLS, so it shows no certificate; tls: on has it do so", name)
	}
	secured, err := s.Scene().AnswersSecured(role)
	if err == nil && !secured {
		err = fmt.Errorf("%s passes TLS on to those behind it, who show theirs; in mode: http it speaks TLS itself", name)
	}
	return err
}

func (in InstallCertificate) decide(s *state.State) ([]state.Fact, error) {
	if err := ShowsOutside(s, in.Role); err != nil {
		return nil, err
	}
	if next := s.RoleOf(in.Role).OutsideCount + 1; in.Outside.Number != next {
		return nil, fmt.Errorf("somebody else has just installed a certificate for %s; look at it, and try again", in.Role)
	}
	return []state.Fact{state.CertificateInstalled(in)}, nil
}

func (in RemoveCertificate) decide(s *state.State) ([]state.Fact, error) {
	if err := guardOrder(s, "remove a certificate from"); err != nil {
		return nil, err
	}
	if s.Field.Role(in.Role) == nil || s.RoleOf(in.Role).Outside == nil {
		return nil, fmt.Errorf("%s shows no certificate from outside", in.Role)
	}
	return []state.Fact{state.CertificateRemoved(in)}, nil
}
