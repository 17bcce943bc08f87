package control

import "lanternfield/internal/core/order"

// tasks is what is to be done on a node.
type tasks struct {
	orders     []order.Order
	operations []order.Operation
	release    bool
	give       int // which asking for the node is to be answered by its ground; 0 for none
}

func (t tasks) none() bool {
	return len(t.orders) == 0 && len(t.operations) == 0 && !t.release && t.give == 0
}

// give replaces what is to be done on the node.
func (d *driver) give(t tasks) {
	d.mu.Lock()
	idle := t.none() && d.tasks.none() && d.interrupt != nil
	d.tasks = t
	d.mu.Unlock()
	if idle { // of a thousand nodes, most: it talks with its agent, and has nothing to send
		return
	}
	select {
	case d.wake <- struct{}{}:
	default:
	}
}

func (d *driver) pending() tasks {
	d.mu.Lock()
	defer d.mu.Unlock()
	return d.tasks
}
