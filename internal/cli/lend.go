package cli

import (
	"context"
	"errors"
	"fmt"
	"net"
	"os"
	"slices"
	"strconv"
	"strings"
	"time"

	"github.com/urfave/cli/v3"
	"golang.org/x/term"
	"rsc.io/qr"

	"app.example/trammel/internal/cli/ui"
	"app.example/trammel/internal/core/base/authority"
	"app.example/trammel/internal/core/base/fault"
	"app.example/trammel/internal/core/base/shell"
	"app.example/trammel/internal/core/checkout"
	"app.example/trammel/internal/core/running/gateway"
	"app.example/trammel/internal/core/running/lend"
	"app.example/trammel/internal/core/running/service"
	"app.example/trammel/internal/core/written/declare"
)

func lendCommand() *cli.Command {
	return &cli.Command{
		Name:      "lend",
		Usage:     "let somebody else use a running service for a while, by a link",
		ArgsUsage: "[SERVICE]",
		Description: "It lasts as long as this command runs, and at most --for. Whoever has the link reaches that one\n" +
			"service and nothing else of this machine. Alone, it lists what was lent, and who came.\n\n" + example("trammel lend board", "trammel lend board --for 30m --through hut@meeting.heronweir.example", "trammel lend"),
		Flags: []cli.Flag{
			&cli.DurationFlag{Name: "for", Usage: "end after `DURATION`", Value: time.Hour},
			&cli.StringFlag{Name: "to", Usage: "be reached at this `ADDRESS` of this machine; default: that by which it reaches others"},
			&cli.StringFlag{Name: "through", Usage: "be reached at an SSH server, `[USER@]HOST[:PORT]`, which forwards"},
			&cli.IntFlag{Name: "port", Usage: "listen on this `NUMBER`; default: any that is free"},
			&cli.BoolFlag{Name: "yes", Usage: "lend it without asking"},
			jsonFlag(),
		},
		ShellComplete: complete(func(d *declare.Declaration) []string { return declare.Names(d.Services) }),
		Action:        lendAction,
	}
}

// lentOut is what `lend --json` prints: alone what was lent, with a service one line when it
// begins and one when it ended.
type lentOut struct {
	Format    int           `json:"format"`
	Link      string        `json:"link,omitempty"`
	Authority string        `json:"authority,omitempty"` // file to trust, where the certificate is of this machine's authority
	Digest    string        `json:"fingerprint,omitempty"`
	Until     *time.Time    `json:"until,omitempty"`
	Loans     []lend.Record `json:"loans"`
}

func (lentOut) of() string { return "lend" }

const longestLoan = 7 * 24 * time.Hour

func lendAction(ctx context.Context, c *cli.Command) error {
	p, err := look(c)
	if err != nil {
		return err
	}
	s := screen(c)
	name := c.Args().First()
	if name == "" {
		return lentBefore(c, s, p)
	}
	span := c.Duration("for")
	if err := loanAsked(c, span); err != nil {
		return err
	}
	offer, err := lendable(ctx, p, name)
	if err != nil {
		return err
	}
	at, bind, err := reachedAt(c, name)
	if err != nil {
		return err
	}
	if !c.Bool("yes") {
		question := fmt.Sprintf("Whoever has the link can use %s of %s at %s for %s. Lend it?", name, p.Declaration.Project, at, spanned(span))
		if err := consentToLend(ctx, s, name, question); err != nil {
			return err
		}
	}
	l, err := net.Listen("tcp", net.JoinHostPort(bind, strconv.Itoa(c.Int("port"))))
	if err != nil {
		return fault.New(fault.ErrFailed, "%s cannot be listened on: %v", bind, err).Advise("Name another address of this machine with --to, or another number with --port.")
	}
	defer l.Close()
	own, err := authority.Open(ctx, p.Places.State)
	if err != nil {
		return err
	}
	certificate, err := own.For(at)
	if err != nil {
		return err
	}
	ctx, cancel := context.WithTimeoutCause(ctx, span, errLoanOver)
	defer cancel()
	number, err := outside(ctx, c.String("through"), l.Addr().(*net.TCPAddr).Port, cancel)
	if err != nil {
		return err
	}
	record := lend.Record{Service: name, To: net.JoinHostPort(at, strconv.Itoa(number)), Begun: time.Now().UTC()}
	loan := lend.New(offer)
	offer.Visit = func(v lend.Visitor) {
		if v.Requests > 0 { // strangers are noted once, at the end
			_ = lend.NoteVisitor(p.Bay, record, v) // what cannot be noted is told all the same
		}
		if !c.Bool("json") {
			tellVisitor(s, v)
		}
	}
	if err := lend.Note(p.Bay, record); err != nil {
		return err
	}
	out := lentOut{Format: 1, Link: offer.Link(at, number), Digest: authority.Fingerprint(certificate), Loans: []lend.Record{}}
	if authority.Vouches(at) {
		out.Authority = own.File
	}
	until, _ := ctx.Deadline()
	out.Until = &until
	if c.Bool("json") {
		if err := tell(s, out); err != nil {
			return err
		}
	} else {
		invite(s, name, out)
	}
	err = loan.Serve(ctx, l, certificate)
	return endLoan(ctx, c, p, loan, record, err)
}

// loanAsked refuses what no loan can be.
func loanAsked(c *cli.Command, span time.Duration) error {
	if span <= 0 || span > longestLoan {
		return fault.New(fault.ErrUsage, "a loan lasts between a second and a week, not %s", span).Advise("Write, for example: trammel lend %s --for 2h", shell.Typed(c.Args().First()))
	}
	if c.String("to") != "" && c.String("through") != "" {
		return fault.New(fault.ErrUsage, "--to and --through are two ways of which one is taken")
	}
	return nil
}

// reachedAt is where others reach a loan, and the address of this machine that it listens on.
func reachedAt(c *cli.Command, name string) (at, bind string, err error) {
	if through := c.String("through"); through != "" {
		at, err = hostOf(through)
		return at, "127.0.0.1", err
	}
	if at = c.String("to"); at == "" {
		if at = lend.Here(); at == "" {
			return "", "", fault.New(fault.ErrUsage, "this machine has no address by which others could reach it").Advise("Name one: trammel lend %s --to ADDRESS. Or an SSH server that both of you reach: --through USER@HOST", shell.Typed(name))
		}
	}
	return at, at, nil
}

// outside is the port that others reach: the one listened on, or that of an SSH server which
// leads to it. The end of that way is told by ended.
func outside(ctx context.Context, through string, port int, ended func()) (int, error) {
	if through == "" {
		return port, nil
	}
	forward, port, err := lend.Through(ctx, through, port, os.Stdin)
	if err != nil {
		return 0, err
	}
	go func() {
		<-forward
		ended()
	}()
	return port, nil
}

// endLoan notes a loan that ended, err being how, and says who came.
func endLoan(ctx context.Context, c *cli.Command, p *checkout.State, loan *lend.Loan, record lend.Record, err error) error {
	record.Ended, record.Visitors = time.Now().UTC(), loan.Visitors()
	if record.Visitors == nil {
		record.Visitors = []lend.Visitor{}
	}
	if noted := lend.Note(p.Bay, record); err == nil {
		err = noted
	}
	if err != nil {
		return err
	}
	if c.Bool("json") {
		return tell(screen(c), lentOut{Format: 1, Loans: []lend.Record{record}})
	}
	why := "The loan ended."
	if errors.Is(context.Cause(ctx), errLoanOver) {
		why = "The time is over."
	}
	screen(c).Print("%s %s came.", why, people(record))
	return nil
}

var errLoanOver = errors.New("the time is over")

// lendable is the service as it is offered, if it runs and speaks HTTP.
func lendable(ctx context.Context, p *checkout.State, name string) (*lend.Offer, error) {
	if !slices.Contains(declare.Names(p.Declaration.Services), name) {
		return nil, fault.New(fault.ErrUsage, "no service is named %q", name).Advise("%s", fault.DidYouMean(name, declare.Names(p.Declaration.Services)))
	}
	list, err := service.Connect(p.Bay, p.Host).Status(ctx)
	if err != nil {
		return nil, err
	}
	i := slices.IndexFunc(list, func(st service.Status) bool { return st.Service == name && st.Running() })
	if i < 0 {
		return nil, fault.New(fault.ErrNotReady, "%s does not run", name).Advise("Start it: trammel start %s", shell.Typed(name))
	}
	host := strings.TrimSuffix(strings.TrimPrefix(list[i].Address, "http://"), "/")
	if _, _, err := net.SplitHostPort(host); err != nil {
		return nil, fault.New(fault.ErrUsage, "%s speaks no HTTP, and only what does can be lent by a link", name).
			Advise("A service speaks it that has a port named http, or is asked over http whether it is ready.")
	}
	at := func(turn int) (string, error) { return gateway.Reached(p.Bay, name, turn) }
	return &lend.Offer{Service: name, Name: host, Secret: lend.Secret(), At: at}, nil
}

// hostOf is the host of [USER@]HOST[:PORT].
func hostOf(through string) (string, error) {
	host := through[strings.LastIndex(through, "@")+1:]
	if h, _, err := net.SplitHostPort(host); err == nil {
		host = h
	}
	if host = strings.Trim(host, "[]"); host == "" || strings.HasPrefix(through, "-") || strings.ContainsAny(through, " \t\n") {
		return "", fault.New(fault.ErrUsage, "%q names no SSH server", through).Advise("Write: --through USER@HOST, or HOST alone as ssh knows it.")
	}
	return host, nil
}

// consentToLend asks on the terminal.
func consentToLend(ctx context.Context, s *ui.Screen, name, question string) error {
	if !term.IsTerminal(int(os.Stdin.Fd())) {
		return fault.New(fault.ErrNotApproved, "nobody is asked without a terminal whether %s may be lent", name).Advise("If you want that: trammel lend %s --yes", shell.Typed(name))
	}
	yes, err := answeredYes(ctx, s, question)
	if err == nil && !yes {
		err = fault.New(fault.ErrNotApproved, "nothing was lent")
	}
	return err
}

// spanned writes a duration without its zeros: "2h", "1h30m".
func spanned(d time.Duration) string {
	text := d.Round(time.Second).String()
	for _, zero := range []string{"0s", "0m"} {
		if trimmed := strings.TrimSuffix(text, zero); trimmed != text && !strings.ContainsAny(trimmed[max(0, len(trimmed)-1):], "0123456789") && trimmed != "" {
			text = trimmed
		}
	}
	return text
}

// invite shows the link, as text and as a code for a telephone's camera.
func invite(s *ui.Screen, name string, out lentOut) {
	s.Print("%s is lent until %s, or until you press Ctrl-C:", s.Paint(ui.Accent, name), out.Until.Local().Format("15:04"))
	s.Print("\n  %s\n", out.Link)
	if code, err := qr.Encode(out.Link, qr.L); err == nil && term.IsTerminal(int(os.Stdout.Fd())) {
		fmt.Fprintln(os.Stdout, drawn(code)) // all of it our own
	}
	if out.Authority != "" {
		s.Say("The browser warns until it trusts %s; the certificate's fingerprint is\n%s", out.Authority, out.Digest)
	} else {
		s.Say("The browser warns, since nobody but this machine vouches for the certificate. Its fingerprint is\n%s", out.Digest)
	}
}

// drawn is a QR code (ISO/IEC 18004) in half blocks, two rows a line, with the margin of four that it asks for. It
// is dark on light whatever the terminal's colours are, since cameras expect that.
func drawn(code *qr.Code) string {
	var b strings.Builder
	const margin = 4
	for y := -margin; y < code.Size+margin; y += 2 {
		b.WriteString("\x1b[30;107m")
		for x := -margin; x < code.Size+margin; x++ {
			switch top, bottom := code.Black(x, y), y+1 < code.Size+margin && code.Black(x, y+1); {
			case top && bottom:
				b.WriteString("█")
			case top:
				b.WriteString("▀")
			case bottom:
				b.WriteString("▄")
			default:
				b.WriteString(" ")
			}
		}
		b.WriteString("\x1b[0m\n")
	}
	return b.String()
}

func tellVisitor(s *ui.Screen, v lend.Visitor) {
	what := "came"
	style := ui.Plain
	if v.Guesses >= 10 {
		what, style = fmt.Sprintf("guesses: %d tries with a wrong link, slowed down", v.Guesses), ui.Red
	} else if v.Requests == 0 {
		what, style = "came without the link, and was refused", ui.Amber
	}
	s.Print("%s  %s  %s  %s", v.First.Local().Format(time.TimeOnly), s.Paint(ui.Accent, v.From), s.Paint(style, what), s.Paint(ui.Dim, v.Program))
}

// people counts who was let in.
func people(r lend.Record) string {
	n := 0
	for _, v := range r.Visitors {
		if v.Requests > 0 {
			n++
		}
	}
	switch n {
	case 0:
		return "Nobody"
	case 1:
		return "One"
	}
	return strconv.Itoa(n)
}

func lentBefore(c *cli.Command, s *ui.Screen, p *checkout.State) error {
	list, err := lend.Noted(p.Bay)
	if err != nil {
		return err
	}
	if c.Bool("json") {
		return tell(s, lentOut{Format: 1, Loans: append([]lend.Record{}, list...)})
	}
	if len(list) == 0 {
		s.Print("Nothing of bay %s was lent yet. Lend a running service: trammel lend SERVICE", p.Bay.Name)
		return nil
	}
	for _, r := range list {
		end := "end not noted"
		if !r.Ended.IsZero() {
			end = r.Ended.Local().Format("15:04")
		}
		s.Print("%s  %s  %s to %s  at %s", s.Paint(ui.Accent, r.Service), r.Begun.Local().Format(time.DateOnly), r.Begun.Local().Format("15:04"), end, r.To)
		var rows [][]ui.Cell
		for _, v := range r.Visitors {
			count := fmt.Sprintf("%d requests", v.Requests)
			if v.Requests == 0 {
				count = "refused"
			}
			rows = append(rows, []ui.Cell{{Text: "  " + v.First.Local().Format(time.TimeOnly)}, {Text: v.From}, {Text: count}, {Text: v.Program, Style: ui.Dim}})
		}
		s.Table(rows)
	}
	return nil
}
