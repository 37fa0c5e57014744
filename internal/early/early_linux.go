package early

import "app.example/trammel/internal/core/kernel/within"

// inside plays what runs in namespaces that were made for it.
func inside(name string) {
	switch name {
	case within.InitName:
		within.Init(nil)
	case within.ViewName:
		within.Enter()
	}
}
