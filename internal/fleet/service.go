// Package fleet is many devices, and later: a restore puts many back, a restore
// test tries a version out on another device, a planned push begins at its time, a
// snapshot names what many ran. Each pushes by way of package push, and talks to no
// device by itself.
package fleet

import "magpie/internal/push"

// Service does what concerns many devices, or is for later.
type Service struct{ *push.Service }
