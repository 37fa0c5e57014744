package demo

import (
	"bufio"
	"encoding/csv"
	"encoding/json"
	"errors"
	"flag"
	"fmt"
	"io"
	"maps"
	"net"
	"net/http"
	"os"
	"os/signal"
	"path/filepath"
	"slices"
	"strconv"
	"strings"
	"sync"
	"syscall"
	"time"
)

// EngineName is the argv[0] under which this program is the engine of the demo's
// tools: sluice, tallydb and ladderweb. Each of them is a small script in an
// archive of the demo's catalog that starts the engine, which comes as an archive
// of the same catalog.
const EngineName = "weir-engine"

// Engine runs one of the demo's tools: engine TOOL VERSION ARGUMENT….
func Engine(args []string) int {
	if len(args) < 2 {
		fmt.Fprintln(os.Stderr, "weir-engine: it runs as sluice, tallydb or ladderweb")
		return 2
	}
	tool, version, args := args[0], args[1], args[2:]
	if len(args) > 0 && args[0] == "--version" {
		fmt.Printf("%s %s\n", tool, version)
		return 0
	}
	var err error
	switch tool {
	case "sluice":
		err = sluice(version, args)
	case "tallydb":
		err = tallydb(args)
	case "ladderweb":
		err = ladderweb(args)
	default:
		err = fmt.Errorf("no tool %q", tool)
	}
	if err != nil {
		fmt.Fprintf(os.Stderr, "%s: %v\n", tool, err)
		return 1
	}
	return 0
}

// sluice checks tables of passings. Each edition checks more: 1.2 the columns,
// 1.3 the species too, 1.4 the lengths too.
func sluice(version string, files []string) error {
	if len(files) == 0 {
		return errors.New("name the tables to check")
	}
	faults, rows := 0, 0
	for _, name := range files {
		f, err := os.Open(name)
		if err != nil {
			return err
		}
		table, err := csv.NewReader(f).ReadAll()
		f.Close()
		if err != nil {
			return err
		}
		complain := func(line int, format string, a ...any) {
			fmt.Printf("%s:%d: %s\n", name, line, fmt.Sprintf(format, a...))
			faults++
		}
		if len(table) == 0 || !slices.Equal(table[0], []string{"minute", "lane", "species", "length_mm"}) {
			complain(1, "the columns must be minute, lane, species, length_mm")
			continue
		}
		for i, row := range table[1:] {
			rows++
			if version >= "1.3" && !slices.Contains(species, row[2]) {
				complain(i+2, "no species is named %q", row[2])
			}
			if length, err := strconv.Atoi(row[3]); version >= "1.4" && (err != nil || length < 40 || length > 1500) {
				complain(i+2, "a length of %q mm cannot be", row[3])
			}
		}
	}
	fmt.Printf("%d passings checked, %d faults\n", rows, faults)
	if faults > 0 {
		return errors.New("the tables are not in order")
	}
	return nil
}

var species = []string{"silverfin", "mill trout", "redgill", "weir eel"}

// tallydb is a small key-and-count server with a line protocol, and its client.
func tallydb(args []string) error {
	if len(args) == 0 {
		return errors.New("it knows serve, ping, load, show and lane")
	}
	set := flag.NewFlagSet("tallydb "+args[0], flag.ContinueOnError)
	listen := set.String("listen", "127.0.0.1:0", "address to listen on")
	file := set.String("file", "", "file to keep the counts in")
	to := set.String("to", os.Getenv("LEDGER"), "address of the server")
	lane := set.String("lane", "1", "number of the lane")
	if err := set.Parse(args[1:]); err != nil {
		return err
	}
	switch args[0] {
	case "serve":
		return tallyServe(*listen, *file)
	case "ping":
		_, err := ask(*to, "PING")
		return err
	case "load":
		return tallyLoad(*to, set.Args())
	case "show":
		lines, err := ask(*to, "ALL")
		for _, l := range lines {
			key, n, _ := strings.Cut(l, "\t")
			if set.NArg() == 0 || strings.HasSuffix(key, "/"+set.Arg(0)) {
				fmt.Printf("%-22s %5s\n", key, n)
			}
		}
		return err
	case "lane":
		return countingLane(*listen, *to, *lane)
	}
	return fmt.Errorf("it does not know %q", args[0])
}

// The protocol has one request a line (PING, ADD key n, SET key n, ALL) and answers
// with lines of its own and OK, or with one line ERR. The file holds one record
// "VERB key<TAB>n" a line.
type tally struct {
	mu     sync.Mutex
	counts map[string]int
	file   *os.File
}

func tallyServe(listen, file string) error {
	t := &tally{counts: map[string]int{}}
	if file != "" {
		if err := os.MkdirAll(filepath.Dir(file), 0o755); err != nil {
			return err
		}
		f, err := os.OpenFile(file, os.O_RDWR|os.O_CREATE|os.O_APPEND, 0o644)
		if err != nil {
			return err
		}
		lines := bufio.NewScanner(f)
		for lines.Scan() {
			t.apply(lines.Text())
		}
		t.file = f
	}
	l, err := net.Listen("tcp", listen)
	if err != nil {
		return err
	}
	fmt.Printf("tallydb listens on %s with %d keys\n", l.Addr(), len(t.counts))
	go func() {
		signals := make(chan os.Signal, 1)
		signal.Notify(signals, syscall.SIGTERM, syscall.SIGINT)
		<-signals
		fmt.Println("tallydb closes its file and goes")
		l.Close()
	}()
	for {
		c, err := l.Accept()
		if err != nil {
			t.mu.Lock() // whoever is writing finishes first
			if t.file != nil {
				t.file.Sync()
				t.file.Close()
			}
			return nil
		}
		go t.serve(c)
	}
}

// apply takes one record; t.mu is held or t is not shared yet.
func (t *tally) apply(record string) bool {
	verb, rest, _ := strings.Cut(record, " ")
	key, count, ok := strings.Cut(rest, "\t")
	n, err := strconv.Atoi(count)
	if !ok || err != nil || verb != "ADD" && verb != "SET" {
		return false
	}
	if verb == "SET" {
		t.counts[key] = 0
	}
	t.counts[key] += n
	return true
}

func (t *tally) serve(c net.Conn) {
	defer c.Close()
	lines := bufio.NewScanner(c)
	for lines.Scan() {
		request := lines.Text()
		t.mu.Lock()
		switch {
		case request == "PING":
			fmt.Fprintln(c, "OK")
		case t.apply(request):
			if t.file != nil {
				fmt.Fprintln(t.file, request)
			}
			fmt.Fprintln(c, "OK")
		case request == "ALL":
			for _, key := range slices.Sorted(maps.Keys(t.counts)) {
				fmt.Fprintf(c, "%s\t%d\n", key, t.counts[key])
			}
			fmt.Fprintln(c, "OK")
		default:
			fmt.Fprintln(c, "ERR")
		}
		t.mu.Unlock()
	}
}

// ask sends one request and returns the lines of the answer.
func ask(to, request string) ([]string, error) {
	c, err := net.DialTimeout("tcp", to, 3*time.Second)
	if err != nil {
		return nil, err
	}
	defer c.Close()
	fmt.Fprintln(c, request)
	var out []string
	lines := bufio.NewScanner(c)
	for lines.Scan() {
		switch lines.Text() {
		case "OK":
			return out, nil
		case "ERR":
			return nil, fmt.Errorf("the ledger refuses %q", request)
		}
		out = append(out, lines.Text())
	}
	return nil, io.ErrUnexpectedEOF
}

// tallyLoad sets the counts to those of the tables, so that loading twice is
// loading once.
func tallyLoad(to string, files []string) error {
	counts := map[string]int{}
	n := 0
	for _, name := range files {
		f, err := os.Open(name)
		if err != nil {
			return err
		}
		table, err := csv.NewReader(f).ReadAll()
		f.Close()
		if err != nil {
			return err
		}
		for _, row := range table[min(1, len(table)):] {
			counts["lane-"+row[1]+"/"+row[2]]++
			n++
		}
	}
	for _, key := range slices.Sorted(maps.Keys(counts)) {
		if _, err := ask(to, fmt.Sprintf("SET %s\t%d", key, counts[key])); err != nil {
			return err
		}
	}
	fmt.Printf("%d passings loaded\n", n)
	return nil
}

// countingLane is a lane of the ladder: it writes passings to the ledger and
// tells its own counts over HTTP.
func countingLane(listen, ledger, lane string) error {
	prefix := "lane-" + lane + "/"
	mux := http.NewServeMux()
	mux.HandleFunc("GET /health", func(w http.ResponseWriter, _ *http.Request) {
		if _, err := ask(ledger, "PING"); err != nil {
			http.Error(w, err.Error(), http.StatusServiceUnavailable)
			return
		}
		fmt.Fprintln(w, "ok")
	})
	mux.HandleFunc("POST /passing", func(w http.ResponseWriter, r *http.Request) {
		name := r.FormValue("species")
		if !slices.Contains(species, name) {
			http.Error(w, "no such species", http.StatusBadRequest)
			return
		}
		if _, err := ask(ledger, "ADD "+prefix+name+"\t1"); err != nil {
			http.Error(w, err.Error(), http.StatusBadGateway)
			return
		}
		fmt.Printf("a %s passed lane %s\n", name, lane)
		fmt.Fprintln(w, "counted")
	})
	mux.HandleFunc("GET /counts", func(w http.ResponseWriter, _ *http.Request) {
		lines, err := ask(ledger, "ALL")
		if err != nil {
			http.Error(w, err.Error(), http.StatusBadGateway)
			return
		}
		counts := map[string]int{}
		for _, l := range lines {
			key, n, _ := strings.Cut(l, "\t")
			if name, ok := strings.CutPrefix(key, prefix); ok {
				counts[name], _ = strconv.Atoi(n)
			}
		}
		_ = json.NewEncoder(w).Encode(counts)
	})
	fmt.Printf("lane %s counts on %s\n", lane, listen)
	return serveUntilStopped(listen, mux)
}

// ladderweb serves static pages, and the counts of all lanes as /counts.
func ladderweb(args []string) error {
	set := flag.NewFlagSet("ladderweb", flag.ContinueOnError)
	listen := set.String("listen", "127.0.0.1:0", "address to listen on")
	pages := set.String("pages", ".", "folder of pages")
	lanes := set.String("lanes", "", "addresses of the lanes, with commas between")
	if err := set.Parse(args); err != nil {
		return err
	}
	mux := http.NewServeMux()
	mux.Handle("GET /", http.FileServer(http.Dir(*pages)))
	client := &http.Client{Timeout: 3 * time.Second}
	mux.HandleFunc("GET /counts", func(w http.ResponseWriter, _ *http.Request) {
		total := map[string]int{}
		for lane := range strings.SplitSeq(*lanes, ",") {
			resp, err := client.Get("http://" + lane + "/counts")
			if err != nil {
				http.Error(w, err.Error(), http.StatusBadGateway)
				return
			}
			own := map[string]int{}
			err = json.NewDecoder(resp.Body).Decode(&own)
			resp.Body.Close()
			if err != nil {
				http.Error(w, err.Error(), http.StatusBadGateway)
				return
			}
			for name, n := range own {
				total[name] += n
			}
		}
		_ = json.NewEncoder(w).Encode(total)
	})
	fmt.Printf("the board is on http://%s\n", *listen)
	return serveUntilStopped(*listen, mux)
}

func serveUntilStopped(listen string, handler http.Handler) error {
	server := &http.Server{Addr: listen, Handler: handler}
	go func() {
		signals := make(chan os.Signal, 1)
		signal.Notify(signals, syscall.SIGTERM, syscall.SIGINT)
		<-signals
		server.Close()
	}()
	if err := server.ListenAndServe(); !errors.Is(err, http.ErrServerClosed) {
		return err
	}
	return nil
}
