// Command trammel gives everyone who works on a project the identical, locked
// environment, and proves it.
package main

import (
	"os"
	"path/filepath"
	"runtime"
	"runtime/debug"
	"runtime/metrics"

	"app.example/trammel/internal/cli"
	"app.example/trammel/internal/core/kernel/process"
	"app.example/trammel/internal/core/running/cluster"
	"app.example/trammel/internal/core/running/inside"
	"app.example/trammel/internal/core/running/script"
	"app.example/trammel/internal/core/running/service"
	"app.example/trammel/internal/core/running/supervise"
	"app.example/trammel/internal/demo"
	_ "app.example/trammel/internal/early" // plays its roles before main
)

// main is one program under several names: the interpreter of a script, the supervisor of a
// bay and the engine of the demo's tools are all this binary, re-executed. The names that are
// started most are played before main, in internal/early.
func main() {
	process.Init() // where nobody played it before
	switch filepath.Base(os.Args[0]) {
	case script.Name:
		script.Main()
	case cluster.KeeperName:
		cluster.Keep()
		return
	case service.SupervisorName:
		supervise.Main()
	case demo.EngineName:
		os.Exit(demo.Engine(os.Args[1:]))
	}
	if len(os.Args) > 1 && os.Args[1] == "inside" && os.Args[0] == inside.Program { // the launcher of an image
		os.Exit(inside.Main(os.Args[2:]))
	}
	// A command lives for milliseconds: collecting its few megabytes costs more than
	// it gives back.
	debug.SetGCPercent(400)
	eachCollection(func(live uint64) {
		debug.SetGCPercent(int(min(400, max(50, 100*muchHeld/max(1, live)-100))))
	})
	os.Exit(cli.Main(os.Args))
}

// muchHeld is how many bytes a command may hold, with what it left to be collected, before it collects
// more often; at most half of what is in use is left, where that is more.
const muchHeld = 72 << 20

// eachCollection calls f after each collection of memory, with what is in use in bytes: nothing
// refers to what it leaves for the collector to find.
func eachCollection(f func(live uint64)) {
	runtime.SetFinalizer(new([16]byte), func(*[16]byte) {
		live := []metrics.Sample{{Name: "/gc/heap/live:bytes"}}
		metrics.Read(live)
		if live[0].Value.Kind() == metrics.KindUint64 {
			f(live[0].Value.Uint64())
		}
		eachCollection(f)
	})
}
