package runtime

import (
	"os"

	"lanternfield/internal/core/order"
	"lanternfield/internal/host"
	"lanternfield/internal/host/fit"
)

// fromOwn are the variables that members, and commands about them, get from the agent's own environment. Nothing else of it reaches
// them: an operator's environment holds tokens.
var fromOwn = []string{"LANG", "TZ", "TMPDIR"}

// environment is that of a member, and of every command that is run about it; folder is that of the version that was chosen.
func (p *processes) environment(spec *order.Spec, folder string) []string {
	env := []string{host.EnvMember + "=" + string(p.name), host.EnvHome + "=" + p.at.Node, "PATH=" + fit.PathOf(folder, spec.LookIn)}
	for _, key := range fromOwn {
		if v, ok := os.LookupEnv(key); ok {
			env = append(env, key+"="+v)
		}
	}
	env = append(env, "HOME="+p.at.Data)
	for key, value := range spec.Env {
		env = append(env, key+"="+value)
	}
	return env
}
