package control

import (
	"lanternfield/internal/core/order"
	"lanternfield/internal/core/render"
)

// withSecrets puts the field's secrets where templates asked for them.
func (c *Controller) withSecrets(o order.Order) order.Order {
	if o.Spec == nil {
		return o
	}
	o.Spec = c.specWithSecrets(o.Spec)
	return o
}

// withOperationSecrets does the same for an operation: commands that it runs have the member's environment.
func (c *Controller) withOperationSecrets(o order.Operation) order.Operation {
	o.Spec = c.specWithSecrets(o.Spec)
	return o
}

func (c *Controller) specWithSecrets(from *order.Spec) *order.Spec {
	put := func(text string) string {
		return render.PutSecrets(text, func(name string) string { return derive(c.key, "secret "+name) })
	}
	spec := *from
	spec.Files = append([]order.File(nil), spec.Files...)
	for i := range spec.Files {
		spec.Files[i].Content = put(spec.Files[i].Content)
	}
	if spec.Env != nil {
		env := map[string]string{}
		for k, v := range spec.Env {
			env[k] = put(v)
		}
		spec.Env = env
	}
	return &spec
}
