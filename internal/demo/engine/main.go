// Command engine is the engine of the demo's tools alone. Tests and benchmarks put it into the
// catalogs that they make by the dozen, where the demo itself puts the whole program.
package main

import (
	"os"

	"app.example/trammel/internal/demo"
)

func main() { os.Exit(demo.Engine(os.Args[1:])) }
