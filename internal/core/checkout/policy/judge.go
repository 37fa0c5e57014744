package policy

import (
	"bytes"
	"fmt"
	"net/url"
	"slices"
	"strings"

	"golang.org/x/crypto/ssh"

	"app.example/trammel/internal/core/base/fault"
	"app.example/trammel/internal/core/base/version"
	"app.example/trammel/internal/core/origins/source"
	"app.example/trammel/internal/core/written/declare"
	"app.example/trammel/internal/core/written/lock"
)

// Breach is one thing that a policy does not allow.
type Breach struct {
	What   string // "isolation open of the project"
	Rule   string // "environment.isolation"
	At     string // where the rule stands: "/etc/trammel/policy.toml:7"
	Policy string // whose it is
	Ask    string // who to ask, "" where the policy does not say
	Why    string // the policy's own reason, "" where it gives none
}

func (b Breach) String() string {
	text := b.What
	if b.Why != "" {
		text += ": " + b.Why
	}
	return text + " (" + b.Rule + " in " + b.At + ")"
}

func (p Policy) breach(r rule, format string, args ...any) Breach {
	return Breach{What: fmt.Sprintf(format, args...), Rule: r.key, At: fmt.Sprintf("%s:%d", p.File, r.place.Line), Policy: p.Name, Ask: p.Contact}
}

// Refused is the error of what policies do not allow.
type Refused struct {
	said     *fault.Error
	Breaches []Breach
}

func (r *Refused) Error() string { return r.said.Error() }

// Unwrap gives what people read, and by it the kind.
func (r *Refused) Unwrap() error { return r.said }

// Err is the refusal that breaches come to, nil for none.
func Err(breaches []Breach) error {
	if len(breaches) == 0 {
		return nil
	}
	breaches = unique(breaches)
	var lines, ask []string
	what := breaches[0].String()
	if len(breaches) > 1 {
		what = fmt.Sprintf("%d things", len(breaches))
		for _, b := range breaches {
			lines = append(lines, b.String())
		}
	}
	for _, b := range breaches {
		if who := b.Ask; who != "" && !slices.Contains(ask, who) {
			ask = append(ask, who)
		}
	}
	switch {
	case len(ask) > 0:
		lines = append(lines, "Ask "+strings.Join(ask, " or ")+", or change what the project declares.")
	default:
		lines = append(lines, "Change what the project declares, or ask whoever keeps the policy.")
	}
	return &Refused{fault.New(fault.ErrNotApproved, "the policy of %s refuses %s", breaches[0].Policy, what).Advise("%s", strings.Join(lines, "\n")), breaches}
}

// Host says whether anything may be fetched from a host, given as a name or address without
// a port.
func (l List) Host(host string) error {
	var out []Breach
	for _, p := range l {
		if p.hosts != nil && !p.hosts.host(host) {
			out = append(out, p.breach(p.hosts.rule, "the host %s", host))
		}
	}
	return Err(out)
}

func (l *list) host(host string) bool {
	host = strings.ToLower(strings.TrimSuffix(host, "."))
	return slices.ContainsFunc(l.values, func(allowed string) bool {
		allowed = strings.ToLower(allowed)
		if below, ok := strings.CutPrefix(allowed, "*."); ok {
			return strings.HasSuffix(host, "."+below)
		}
		return host == allowed
	})
}

// Isolation says whether a level may be used.
func (l List) Isolation(level declare.Isolation) error {
	var out []Breach
	for _, p := range l {
		if !p.isolation.has(string(level)) {
			out = append(out, p.breach(p.isolation.rule, "%s isolation", level))
		}
	}
	return Err(out)
}

// Declared lists what a declaration asks for and no policy allows. A person's own additions
// are judged by it too.
func (l List) Declared(d *declare.Declaration) (out []Breach) {
	for _, p := range l {
		if d.Isolation != "" && !p.isolation.has(string(d.Isolation)) {
			out = append(out, p.breach(p.isolation.rule, "%s isolation", d.Isolation))
		}
		for _, command := range d.Host {
			if !p.commands.has(command) {
				out = append(out, p.breach(p.commands.rule, "the host's command %s", command))
			}
		}
		for _, x := range d.Secrets {
			if kind, _, _ := strings.Cut(x.From, ":"); !p.secrets.has(kind) {
				out = append(out, p.breach(p.secrets.rule, "the secret %s from a %s", x.Name, kind))
			}
		}
		for _, x := range d.Sources {
			out = append(out, p.source(x)...)
		}
		p.addresses("the depot", []string{d.Depot}, &out)
		for _, x := range d.Includes {
			p.addresses("the include "+x.Name, []string{x.Name}, &out)
		}
		for _, t := range d.Toolchains {
			out = append(out, p.refused(t.Name)...)
			out = append(out, p.refused(t.CardName())...)
			if p.scripts != nil && len(t.Scripts) > 0 {
				out = append(out, p.breach(*p.scripts, "the install scripts of %s", strings.Join(t.Scripts, ", ")))
			}
		}
		for _, x := range d.Libraries {
			if p.scripts != nil && len(x.Scripts) > 0 {
				out = append(out, p.breach(*p.scripts, "the install scripts of %s", strings.Join(x.Scripts, ", ")))
			}
		}
	}
	return unique(out)
}

func (p Policy) source(x declare.Source) (out []Breach) {
	if !p.kinds.has(x.Kind) {
		out = append(out, p.breach(p.kinds.rule, "the source %s, which is of kind %s", x.Name, x.Kind))
	}
	all := []string{x.URL, x.Debian.Snapshots}
	for _, also := range x.Debian.Also {
		all = append(all, also.URL, also.Snapshots)
	}
	if l := x.Listing; l != nil {
		all = append(all, l.Index, l.Archive, l.Sums, l.Signature)
	}
	p.addresses("the source "+x.Name, all, &out)
	if p.checksums != nil {
		switch {
		case x.Listing != nil && x.Listing.Sums == "" && x.Listing.Signature == "":
			out = append(out, p.breach(*p.checksums, "the source %s, which states no checksums", x.Name))
		case x.SumDB == "off":
			out = append(out, p.breach(*p.checksums, "the source %s without a checksum database", x.Name))
		case x.Debian.Expired:
			out = append(out, p.breach(*p.checksums, "expired releases of the source %s", x.Name))
		}
	}
	if p.catalogs != nil && x.Kind == "catalog" {
		if len(x.Keys) == 0 {
			out = append(out, p.breach(p.catalogs.rule, "the catalog %s, which nobody has to sign", x.Name))
		}
		for _, key := range x.Keys {
			if !p.catalogs.key(key) {
				out = append(out, p.breach(p.catalogs.rule, "a key of the catalog %s", x.Name))
			}
		}
	}
	return out
}

// addresses judges the hosts of addresses; what has none is on this machine.
func (p Policy) addresses(whose string, list []string, out *[]Breach) {
	if p.hosts == nil {
		return
	}
	for _, text := range list {
		for _, one := range strings.FieldsFunc(text, func(r rune) bool { return r == ',' || r == '|' }) {
			if host := HostOf(one); host != "" && !p.hosts.host(host) {
				*out = append(*out, p.breach(p.hosts.rule, "the host %s of %s", host, whose))
			}
		}
	}
}

// HostOf is the host of an address or locator, "" for what is on this machine.
func HostOf(address string) string {
	address = strings.TrimPrefix(address, "git+")
	if user, rest, ok := strings.Cut(address, "@"); ok && !strings.ContainsAny(user, "/:") { // git@host:path
		if host, _, ok := strings.Cut(rest, ":"); ok && !strings.Contains(host, "/") {
			return host
		}
	}
	u, err := url.Parse(strings.NewReplacer("@{", "", "}", "").Replace(address))
	if err != nil {
		return ""
	}
	return u.Hostname()
}

// Locked lists what a lock holds and no policy allows.
func (l List) Locked(locked *lock.Lock) (out []Breach) {
	if locked == nil {
		return nil
	}
	for _, p := range l {
		for _, name := range lock.Sorted(locked.Items) {
			item := locked.Items[name]
			kind := locked.Sources[item.Source].Kind
			if kind == "" {
				kind = item.Source // one that needs no table
			}
			if !p.kinds.has(kind) {
				out = append(out, p.breach(p.kinds.rule, "%s from the source %s, which is of kind %s", name, item.Source, kind))
			}
			out = append(out, p.refused(name)...)
			scheme := source.Scheme(kind)
			if scheme == "" {
				scheme = version.Dotted
			}
			for _, v := range p.versions {
				if v.name == name && !v.ask.Allows(scheme, item.Version) {
					out = append(out, p.breach(v.rule, "%s %s, which is not %s", name, item.Version, v.ask))
				}
			}
			for _, on := range item.Platforms {
				for _, part := range on {
					for _, line := range part.Packages {
						place, _, _ := strings.Cut("node_modules/"+line, " ")
						out = append(out, p.refused(place[strings.LastIndex(place, "node_modules/")+len("node_modules/"):])...)
					}
					if p.scripts != nil && len(part.Scripts) > 0 {
						out = append(out, p.breach(*p.scripts, "the install scripts of %s", strings.Join(part.Scripts, ", ")))
					}
				}
			}
		}
		for _, name := range lock.Sorted(locked.Libraries) {
			x := locked.Libraries[name]
			kind := locked.Sources[x.Source].Kind
			if kind == "" {
				kind = x.Source
			}
			if !p.kinds.has(kind) {
				out = append(out, p.breach(p.kinds.rule, "the libraries %s, whose source is of kind %s", name, kind))
			}
			for _, on := range x.On {
				for _, library := range on.List() {
					out = append(out, p.refused(library.Name)...)
				}
				if allowed, ok := strings.CutPrefix(on.Builder, "scripts "); ok && p.scripts != nil {
					out = append(out, p.breach(*p.scripts, "the install scripts of %s", allowed))
				}
			}
		}
		for _, root := range lock.Sorted(locked.Roots) {
			for _, on := range locked.Roots[root] {
				for _, x := range on.Packages {
					if name, _, ok := strings.Cut(x, " "); ok {
						out = append(out, p.refused(name)...)
					}
				}
			}
		}
	}
	return unique(out)
}

func (p Policy) refused(name string) (out []Breach) {
	for _, r := range p.refuse {
		if r.name == name {
			b := p.breach(r.rule, "%s", name)
			b.Why = r.why
			out = append(out, b)
		}
	}
	return out
}

// unique drops what is said twice: platforms share most of what they hold.
func unique(list []Breach) (out []Breach) {
	for _, b := range list {
		if !slices.Contains(out, b) {
			out = append(out, b)
		}
	}
	return out
}

// key tells whether a list of public keys has one, whatever its comment.
func (l *list) key(text string) bool {
	wanted, _, _, _, err := ssh.ParseAuthorizedKey([]byte(text))
	return err == nil && l.public(wanted)
}

func (l *list) public(key ssh.PublicKey) bool {
	return slices.ContainsFunc(l.values, func(line string) bool {
		known, _, _, _, err := ssh.ParseAuthorizedKey([]byte(line))
		return err == nil && bytes.Equal(known.Marshal(), key.Marshal())
	})
}

// Report says whether a report may be written that is signed with a key; nil is one that
// nobody signs.
func (l List) Report(key ssh.PublicKey) error {
	var out []Breach
	for _, p := range l {
		switch {
		case p.reports == nil:
		case key == nil:
			out = append(out, p.breach(p.reports.rule, "a report that nobody signs"))
		case !p.reports.public(key):
			out = append(out, p.breach(p.reports.rule, "a report signed by %s", ssh.FingerprintSHA256(key)))
		}
	}
	return Err(out)
}

// Named are the policies in a few words: "Heron Weir 5be0 91c4".
func (l List) Named() (out []string) {
	for _, p := range l {
		out = append(out, p.Name)
	}
	return out
}
