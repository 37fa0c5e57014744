// Package release is which release of the program this is. It imports nothing, so that the
// shortest roles (internal/early) can say it.
package release

// Version is the program's version (Semantic Versioning 2.0.0); release builds set it with
// -ldflags -X.
var Version = "0.1.0-dev"
