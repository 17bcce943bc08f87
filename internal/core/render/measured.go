package render

import (
	"fmt"

	"lanternfield/internal/core/field"
)

// measured tells where measures of this member are asked for; the port is empty where there are none.
func (v *View) measured() (port, path string) {
	if v.away != nil {
		return v.away.metrics, v.away.metricsPath
	}
	role := v.scene.Field.Role(field.RoleName(v.Role))
	if role == nil || role.Program == nil {
		return "", ""
	}
	return role.Program.Measured()
}

// Measured is those of Everyone who tell measures of themselves.
func (v *View) Measured() []*View {
	var out []*View
	for _, m := range v.Everyone() {
		if port, _ := m.measured(); port != "" {
			out = append(out, m)
		}
	}
	return out
}

// MetricsPort is the name of the port at which the member tells measures of itself.
func (v *View) MetricsPort() (string, error) {
	port, _ := v.measured()
	if port == "" {
		return "", fmt.Errorf("%s tells no measures of itself (metrics); .Measured is those that do", v.Member)
	}
	return port, nil
}

// MetricsPath is where it tells them, there.
func (v *View) MetricsPath() (string, error) {
	_, err := v.MetricsPort()
	_, path := v.measured()
	return path, err
}
