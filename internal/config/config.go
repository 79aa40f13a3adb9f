// Package config reads tartine.yaml into typed settings.
//
// Every error names the file, line and column, and an unknown key the known one nearest to it. The JSON Schema that
// editors use is generated from the same types (see schema.go).
package config

import (
	"errors"
	"fmt"
	"io/fs"
	"net/url"
	"os"
	"path"
	"path/filepath"
	"regexp"
	"runtime"
	"slices"
	"strconv"
	"strings"
	"time"
)

// FileName is the usual name of the settings file.
const FileName = "tartine.yaml"

// Find looks for the settings file in a folder, and, where that is below the top of a repository or the user's home
// folder, in those above it up to there. It gives an empty name where there is none.
func Find(dir, home string) (string, error) {
	var above []string
	for at := dir; ; at = filepath.Dir(at) {
		above = append(above, at)
		if _, err := os.Lstat(filepath.Join(at, ".git")); err == nil || at == home {
			break
		}
		if at == filepath.Dir(at) {
			above = above[:1]
			break
		}
	}
	for _, at := range above {
		var found []string
		for _, name := range []string{FileName, "tartine.yml"} {
			if _, err := os.Lstat(filepath.Join(at, name)); err == nil {
				found = append(found, filepath.Join(at, name))
			}
		}
		if len(found) > 1 {
			return "", &Error{At: Position{File: found[1]}, Reason: "is in the same folder as " + found[0], Fix: "keep one of them"}
		}
		if len(found) == 1 {
			return found[0], nil
		}
	}
	return "", nil
}

// Settings is a whole tartine.yaml.
type Settings struct {
	Name       Text              `yaml:"name" doc:"what the site is called, for messages"`
	Content    []Source          `yaml:"content" doc:"where the content comes from; where sources meet on one path the later one wins"`
	Include    []Text            `yaml:"include" doc:"patterns; what none matches is left out; without any, everything is taken"`
	Exclude    []Text            `yaml:"exclude" doc:"patterns of what is left out of every source; an exclude always wins"`
	Links      Text              `yaml:"links" enum:"keep,follow,skip" doc:"what becomes of symbolic links (keep)"`
	Modes      Text              `yaml:"modes" enum:"default,keep" doc:"default: files 0644, executables and folders 0755; keep: as they are here"`
	Attributes []Attribute       `yaml:"attributes" doc:"owner, group and mode of files and folders by their paths at the site; a later entry wins"`
	Last       []Text            `yaml:"last" doc:"patterns of what is published last, after all that it refers to (pages: *.html and the like)"`
	Retire     Retire            `yaml:"retire" doc:"what becomes of files that are no longer in the content"`
	Shared     []Text            `yaml:"shared" doc:"files of settings that hold here, too; what is said here wins, and their paths are relative to them"`
	Guard      Guard             `yaml:"guard" doc:"what may be deployed although it looks like a secret"`
	Build      Line              `yaml:"build" doc:"what makes the content, run on this machine in the folder of the settings before a deployment: a list of a program and its arguments, or a line for the shell"`
	Targets    map[string]Target `yaml:"targets" doc:"the places to deploy to, each under its name"`

	File string `yaml:"-"` // where it was read from; empty without a file
	// TargetNames is the names of the targets in the order in which they are written.
	TargetNames []string `yaml:"-"`
}

// Source is one folder or file of the content.
type Source struct {
	Source  From   `yaml:"source" required:"true" doc:"a folder, whose content goes into dest, a single file, an https:// address; or another target, or an image"`
	Dest    Text   `yaml:"dest" doc:"the folder of the site into which the source goes; the top when left out"`
	Name    Text   `yaml:"name" doc:"another name for a single file"`
	Unpack  bool   `yaml:"unpack" doc:"the source is an archive, and what is in it is wanted: tar (also in gzip, bzip2, xz, zstd) or zip (false)"`
	Inside  Text   `yaml:"inside" doc:"the folder inside the archive whose content goes into dest; all of it when left out"`
	Digest  Text   `yaml:"digest" doc:"sha256: and 64 hex digits that the archive, or what an address gives, must have; any: whatever comes"`
	Most    Text   `yaml:"max_unpacked" doc:"how much an archive may unpack to, as in 500MB or 20GiB (20GiB)"`
	Include []Text `yaml:"include" doc:"patterns, relative to the source, that hold for this source"`
	Exclude []Text `yaml:"exclude" doc:"patterns, relative to the source, that hold for this source"`
}

// Attribute says to whom what a pattern matches belongs, and its mode.
type Attribute struct {
	Match Text `yaml:"match" required:"true" doc:"a pattern of paths at the site; one that ends in a slash is of folders, and of owner and group of all that is in them"`
	Owner Text `yaml:"owner" doc:"a user of the far end, by name or number"`
	Group Text `yaml:"group" doc:"a group of the far end, by name or number"`
	Mode  Text `yaml:"mode" doc:"permission bits in octal, as in \"0755\": of files, or, where match ends in a slash, of the folders themselves"`
}

func (a *Attribute) check() error {
	if a.Owner.Value == "" && a.Group.Value == "" && a.Mode.Value == "" {
		return &Error{a.Match.At, fmt.Sprintf("nothing is said of %q", a.Match.Value), "add owner:, group: or mode:"}
	}
	for _, name := range []Text{a.Owner, a.Group} {
		if name.Value != "" && !ownerName.MatchString(name.Value) {
			return &Error{name.At, fmt.Sprintf("%q is neither the name of a user or a group nor a number", name.Value), "write it as in owner: www-data"}
		}
	}
	if bits, err := strconv.ParseUint(a.Mode.Value, 8, 32); a.Mode.Value != "" && (err != nil || bits > 0o777) {
		return &Error{a.Mode.At, fmt.Sprintf("mode %q is not permission bits in octal", a.Mode.Value), `write it in quotes, as in mode: "0755"`}
	}
	return nil
}

var ownerName = regexp.MustCompile(`^([A-Za-z_][A-Za-z0-9_.-]{0,63}|[0-9]{1,10})$`)

// From is where a source is: a path of this machine or an address, or something else that has files. One is set.
type From struct {
	Text
	Target  Text `yaml:"target" doc:"another target of these settings: what is at its site"`
	Image   Text `yaml:"image" doc:"an image in the container engine, or the file or folder of one in the OCI layout"`
	Path    Text `yaml:"path" doc:"the folder inside the image; its top when left out"`
	Drifted Text `yaml:"drifted" enum:"recorded,standing" doc:"what counts where the target is not as it was deployed: recorded (what was deployed) or standing (what is there now); left out: it is an error"`
}

// IsAddress tells whether a source is fetched from the web.
func (f *From) IsAddress() bool { return IsWeb(f.Value) }

// IsWeb tells whether a text is an address of the web.
func IsWeb(text string) bool {
	return strings.HasPrefix(text, "https://") || strings.HasPrefix(text, "http://")
}

// Guard says what may pass.
type Guard struct {
	Allow []Text `yaml:"allow" doc:"patterns, relative to a source, of what is known to be harmless"`
}

// Retire says how long what is retired stays.
type Retire struct {
	After Text `yaml:"after" doc:"how long files that are no pages stay at the site, for visitors who have pages open that refer to them, as in 10m or 1h (0: they go at once)"`
}

func (r *Retire) check() error {
	after, err := time.ParseDuration(r.After.Value)
	if r.After.Value != "" && r.After.Value != "0" && (err != nil || after < 0 || after > mostRetired) {
		return &Error{r.After.At, fmt.Sprintf("after %q is not a length of time up to a year", r.After.Value),
			"write it as in 10m or 1h"}
	}
	return nil
}

const mostRetired = 366 * 24 * time.Hour

// Target is a place to deploy to.
type Target struct {
	URL            Text      `yaml:"url" required:"true" doc:"ssh://, sftp:// or file:// address, or a path"`
	Identity       Identity  `yaml:"identity" doc:"the private key file to log in with; or where the key itself is found"`
	HostKey        Text      `yaml:"host_key" doc:"the fingerprint of the host key, SHA256:…, which pins it"`
	Password       Secret    `yaml:"password" doc:"where the password is found"`
	Passphrase     Secret    `yaml:"passphrase" doc:"where the passphrase of the private key is found"`
	Via            []Text    `yaml:"via" doc:"hosts that are gone through to get there, each as USER@HOST:PORT, in their order"`
	Wait           Text      `yaml:"wait" doc:"how long to try again until the login to a new machine works, as in 2m"`
	Command        []Text    `yaml:"command" doc:"a program of this machine, and its arguments, whose standard input and output lead to a shell at the far end; url is then a path there"`
	Agent          Text      `yaml:"agent" doc:"which program runs next to the files over ssh:// and command: auto (a copy of this one), off (none: SFTP), or the path of one that is installed there (auto)"`
	As             Text      `yaml:"as" doc:"the user of the far end as whom files are read and written there, where that is another one than who logs in; commands run as who logs in"`
	With           Text      `yaml:"with" enum:"sudo,doas,su" doc:"by which program of the far end that is done (the first of them that is there)"`
	AsPassword     Secret    `yaml:"as_password" doc:"where the password is found that this program asks for"`
	Certificate    Text      `yaml:"certificate" doc:"the fingerprint that pins the certificate of an ftps:// server, SHA256: and the hex of its DER form"`
	Insecure       bool      `yaml:"insecure" doc:"let the password of an ftp:// target cross the connection in the clear (false)"`
	Engine         Text      `yaml:"engine" doc:"the address of the container engine: unix://, tcp:// or ssh:// (what DOCKER_HOST or the current context says, else the usual socket)"`
	Owner          Text      `yaml:"owner" doc:"whom files in a container belong to, USER:GROUP as numbers (0:0)"`
	While          Text      `yaml:"while" enum:"stopped" doc:"stopped: a container is stopped while its files are changed, and started again (it is left as it is)"`
	Restart        Setting   `yaml:"restart" doc:"what a container is told when something was published: true, to restart it, or signal:NAME, as in signal:HUP (nothing)"`
	Agents         Text      `yaml:"agents" doc:"a folder of builds of this program for other systems, tartine-OS-PROCESSOR each"`
	LimitRate      Text      `yaml:"limit_rate" doc:"how much is sent and received at most, as in 500kB/s or 5MB/s"`
	Publish        Text      `yaml:"publish" enum:"in-place,switch" doc:"in-place: each file is replaced in its place; switch: a whole new tree is built beside the old one, and a link then leads to it (in-place)"`
	Jobs           int       `yaml:"jobs" doc:"how many files are in flight at once (16)"`
	Web            Text      `yaml:"web" doc:"the address at which visitors see it, https://…; files that are no pages then stay for 10m after they were retired, unless retire: says otherwise"`
	WebCheck       bool      `yaml:"web_check" doc:"after a deployment, look through the web whether what changed comes as it was sent; a check like those in check: (false)"`
	WebCA          Text      `yaml:"web_ca" doc:"a file of certificates (PEM) of authorities that are trusted on the web beside the system's"`
	WebUser        Text      `yaml:"web_user" doc:"the user's name for basic authentication on the web"`
	WebPassword    Secret    `yaml:"web_password" doc:"where the password for that is found"`
	Retire         Retire    `yaml:"retire" doc:"what becomes here of files that are no longer in the content (as at the top)"`
	KeepAttributes bool      `yaml:"keep_attributes" doc:"files that are replaced hand their access lists and extended attributes on, on Linux (false)"`
	BeforePublish  []Command `yaml:"before_publish" doc:"what runs once all is at the site and nothing shows yet; when one fails, nothing is published"`
	AfterPublish   []Command `yaml:"after_publish" doc:"what runs once it is published; one that fails counts as a check that fails"`
	Check          []Check   `yaml:"check" doc:"what must hold once it is published and after_publish has run, asked until it does"`
	Within         Text      `yaml:"within" doc:"how long each check is tried again until it holds, as in 30s (30s)"`
	WhenItFails    Text      `yaml:"when_it_fails" enum:"roll-back,keep" doc:"what becomes of a deployment that after_publish or check find unwell: roll-back publishes the one before again, keep leaves it (roll-back)"`
	Keep           int       `yaml:"keep" doc:"how many deployments can be rolled back to, the current one included (5)"`
}

// Secret says where a secret is found. Exactly one of its fields is set, or none.
type Secret struct {
	Env     Text   `yaml:"env" doc:"the name of an environment variable"`
	File    Text   `yaml:"file" doc:"a file that only its owner can read"`
	Command []Text `yaml:"command" doc:"a program and its arguments; the first line that it prints"`
	Keyring Text   `yaml:"keyring" doc:"the user's name under which the desktop's keyring holds it, for the service tartine"`
	Ask     bool   `yaml:"ask" doc:"ask for it on the terminal"`

	At Position `yaml:"-"`
}

// Identity is a private key file, or where the key itself is found. One of both is set, or none.
type Identity struct {
	Text
	Key Secret
}

// IsSet tells whether there is a secret at all.
func (s *Secret) IsSet() bool {
	return s.Env.Value != "" || s.File.Value != "" || len(s.Command) > 0 || s.Keyring.Value != "" || s.Ask
}

// Text is a string and where it is.
type Text struct {
	Value string
	At    Position
}

// Setting is a Text that may also be written as true or false.
type Setting struct{ Text }

// Position is a place in a file. Line and Column count from 1; 0 means unknown.
type Position struct {
	File         string
	Line, Column int
}

func (p Position) String() string {
	if p.Line == 0 {
		return p.File
	}
	return fmt.Sprintf("%s:%d:%d", p.File, p.Line, p.Column)
}

// Error tells what is wrong with the settings, where, and how to fix it.
type Error struct {
	At     Position
	Reason string
	Fix    string // may be empty
}

func (e *Error) Error() string {
	text := e.Reason
	if where := e.At.String(); where != "" {
		text = where + ": " + text
	}
	if e.Fix != "" {
		text += "; " + e.Fix
	}
	return text
}

// Load reads a settings file.
func Load(name string) (*Settings, error) {
	text, err := os.ReadFile(name)
	if err != nil {
		return nil, &Error{At: Position{File: name}, Reason: "cannot be read: " + reason(err).Error()}
	}
	return Parse(name, text)
}

func reason(err error) error {
	var inner *fs.PathError
	if errors.As(err, &inner) {
		return inner.Err
	}
	return err
}

// Parse reads settings. What is wrong with them comes back as an *Error.
func Parse(name string, text []byte) (*Settings, error) {
	s := &Settings{File: name}
	if err := decode(name, text, s, nil); err != nil {
		return nil, err
	}
	return s, s.check()
}

// check finds what the types cannot say.
func (s *Settings) check() error {
	for i := range s.Content {
		if err := s.Content[i].Check(); err != nil {
			return err
		}
	}
	if err := s.Retire.check(); err != nil {
		return err
	}
	for i := range s.Attributes {
		if err := s.Attributes[i].check(); err != nil {
			return err
		}
	}
	for _, name := range s.TargetNames {
		t := s.Targets[name]
		if fingerprint := t.HostKey; fingerprint.Value != "" && !strings.HasPrefix(fingerprint.Value, "SHA256:") {
			return &Error{fingerprint.At, fmt.Sprintf("host_key %q is not a fingerprint", fingerprint.Value),
				"it reads SHA256: and 43 characters, as ssh-keygen -l prints it"}
		}
		if _, err := time.ParseDuration(t.Wait.Value); t.Wait.Value != "" && err != nil {
			return &Error{t.Wait.At, fmt.Sprintf("wait %q is not a length of time", t.Wait.Value),
				"write it as in 90s or 2m"}
		}
		if _, err := ParseRate(t.LimitRate.Value); err != nil {
			return &Error{t.LimitRate.At, "limit_rate: " + err.Error(), ""}
		}
		if agent := t.Agent.Value; agent != "" && agent != "auto" && agent != "off" && !strings.HasPrefix(agent, "/") {
			return &Error{t.Agent.At, fmt.Sprintf("agent %q is neither auto nor off nor the path of a program at the far end", agent), "such a path begins with /"}
		}
		if len(t.Command) > 0 && !strings.HasPrefix(t.URL.Value, "/") {
			return &Error{t.URL.At, fmt.Sprintf("url %q is not a path at the far end", t.URL.Value),
				"with command: it is one, and begins with /"}
		}
		if c := t.Certificate; c.Value != "" && !certificatePattern.MatchString(c.Value) {
			return &Error{c.At, fmt.Sprintf("certificate %q is not a fingerprint", c.Value),
				"it reads SHA256: and 64 hexadecimal digits"}
		}
		if t.KeepAttributes && t.Publish.Value == "switch" {
			return &Error{t.Publish.At, "keep_attributes is for publish: in-place", "with switch nothing is replaced: each tree is a new one"}
		}
		if scheme, _, _ := strings.Cut(t.URL.Value, ":"); t.KeepAttributes && slices.Contains([]string{"archive", "sftp", "ftp", "ftps"}, scheme) {
			return &Error{t.URL.At, "keep_attributes is for folders, and for targets next to whose files an agent runs", "take it out"}
		}
		if err := t.checkRaised(); err != nil {
			return err
		}
		if err := t.checkContainer(); err != nil {
			return err
		}
		if err := t.Retire.check(); err != nil {
			return err
		}
		if err := t.checkCommands(); err != nil {
			return err
		}
		if web := t.Web; web.Value != "" {
			if parsed, err := url.Parse(web.Value); err != nil || parsed.Scheme != "https" && parsed.Scheme != "http" ||
				parsed.Host == "" || parsed.User != nil {
				return &Error{web.At, fmt.Sprintf("web %q is not the address of a site", web.Value),
					"it reads https://HOST/PATH/"}
			}
		}
		if t.Jobs < 0 || t.Keep < 0 {
			return &Error{t.URL.At, fmt.Sprintf("jobs or keep of target %q is negative", name),
				"write a number from 1 up"}
		}
	}
	return nil
}

var (
	ownerPattern       = regexp.MustCompile(`^[0-9]{1,9}:[0-9]{1,9}$`)
	certificatePattern = regexp.MustCompile(`^SHA256:[0-9a-fA-F]{64}$`)
	restartPattern     = regexp.MustCompile(`^(true|false|signal:[A-Z0-9+-]+)$`)
)

var userPattern = regexp.MustCompile(`^[A-Za-z_][A-Za-z0-9_.-]{0,63}$`)

// checkRaised checks what is said of another user.
func (t *Target) checkRaised() error {
	switch {
	case t.As.Value == "" && t.With.Value != "":
		return &Error{t.With.At, "with says how to become the user of as", "add as: USER"}
	case t.As.Value == "" && t.AsPassword.IsSet():
		return &Error{t.AsPassword.At, "as_password is for becoming the user of as", "add as: USER"}
	case t.As.Value != "" && !userPattern.MatchString(t.As.Value):
		return &Error{t.As.At, fmt.Sprintf("as %q is not the name of a user", t.As.Value), "write it as in as: www-data"}
	}
	return nil
}

// checkContainer checks what only a container has.
func (t *Target) checkContainer() error {
	for _, text := range []Text{t.Engine, t.Owner, t.While, t.Restart.Text} {
		if text.Value != "" && !strings.HasPrefix(t.URL.Value, "container://") {
			return &Error{text.At, "engine, owner, while and restart are for containers",
				"take it out, or write url: container://NAME/PATH"}
		}
	}
	if t.Owner.Value != "" && !ownerPattern.MatchString(t.Owner.Value) {
		return &Error{t.Owner.At, fmt.Sprintf("owner %q is not USER:GROUP as numbers", t.Owner.Value),
			"write it as in owner: 101:101"}
	}
	if t.Restart.Value != "" && !restartPattern.MatchString(t.Restart.Value) {
		return &Error{t.Restart.At, fmt.Sprintf("restart %q is neither true nor signal:NAME", t.Restart.Value),
			"write it as in restart: signal:HUP"}
	}
	return nil
}

// rateUnits are bytes: the decimal units, and those of IEC 80000-13.
var rateUnits = map[string]float64{"B": 1, "kB": 1e3, "MB": 1e6, "GB": 1e9, "KiB": 1 << 10, "MiB": 1 << 20,
	"GiB": 1 << 30}

// ParseRate reads a rate such as 5MB/s and gives it in bytes a second. An empty text is 0, no limit.
func ParseRate(text string) (int64, error) {
	if text == "" {
		return 0, nil
	}
	amount := strings.TrimSuffix(text, "/s")
	digits := strings.TrimRight(amount, "kKMGiB")
	number, err := strconv.ParseFloat(digits, 64)
	unit, known := rateUnits[amount[len(digits):]]
	if err != nil || !known || !(number*unit >= 1 && number*unit < 1e15) {
		return 0, fmt.Errorf("%q is not a rate; write it as in 500kB/s or 5MB/s", text)
	}
	return int64(number * unit), nil
}

// ParseSize reads a size such as 20GiB and gives it in bytes. An empty text is 0, the usual.
func ParseSize(text string) (int64, error) {
	size, err := ParseRate(text)
	if err != nil || strings.HasSuffix(text, "/s") {
		return 0, fmt.Errorf("%q is not a size; write it as in 500MB or 20GiB", text)
	}
	return size, nil
}

var digestPattern = regexp.MustCompile(`^(sha256:[0-9a-f]{64}|any)$`)

// CheckDigest tells what is wrong with what is said of a digest.
func CheckDigest(text string) error {
	if text != "" && !digestPattern.MatchString(text) {
		return fmt.Errorf("digest %q is neither sha256: with 64 hex digits nor any", text)
	}
	return nil
}

// checkFrom checks where a source is, and what goes with it.
func (s *Source) checkFrom() error {
	f := &s.Source
	switch {
	case f.Target.Value != "" && f.Image.Value != "":
		return &Error{f.Image.At, "a source is a target or an image, not both", "write two sources"}
	case f.Value == "" && f.Target.Value == "" && f.Image.Value == "":
		return &Error{f.Path.At, "source names neither a target nor an image", "write source: {target: NAME} or {image: NAME, path: FOLDER}"}
	case f.Drifted.Value != "" && f.Target.Value == "":
		return &Error{f.Drifted.At, "drifted is for targets", "take it out"}
	case f.Path.Value != "" && f.Image.Value == "":
		return &Error{f.Path.At, "path is for images", ""}
	case (s.Unpack || s.Digest.Value != "") && f.Value == "":
		return &Error{s.Source.at(), "unpack and digest are for files and addresses", "take them out"}
	case s.Inside.Value != "" && !s.Unpack:
		return &Error{s.Inside.At, "inside is a folder of an archive", "add unpack: true"}
	case s.Unpack && s.Name.Value != "":
		return &Error{s.Name.At, `"name" is for single files, and an archive is unpacked`, "take one of them out"}
	case s.Digest.Value != "" && !s.Unpack && !f.IsAddress():
		return &Error{s.Digest.At, "digest is for archives and addresses", "take it out"}
	}
	if err := CheckDigest(s.Digest.Value); err != nil {
		return &Error{s.Digest.At, err.Error(), ""}
	}
	if _, err := ParseSize(s.Most.Value); err != nil {
		return &Error{s.Most.At, "max_unpacked: " + err.Error(), ""}
	}
	if _, err := CleanInside(s.Inside.Value); err != nil {
		return &Error{s.Inside.At, err.Error(), "it is a folder of the archive, such as build/html"}
	}
	return nil
}

func (f *From) at() Position {
	for _, t := range []Text{f.Text, f.Target, f.Image} {
		if t.Value != "" {
			return t.At
		}
	}
	return f.Path.At
}

// CleanInside gives a folder of an archive in its shortest form, "." for the top.
func CleanInside(inside string) (string, error) {
	clean := path.Clean(strings.Trim(inside, "/"))
	if inside == "" || clean == "." {
		return ".", nil
	}
	if clean == ".." || strings.HasPrefix(clean, "../") || strings.ContainsRune(clean, 0) {
		return "", fmt.Errorf("inside %q leads out of the archive", inside)
	}
	return clean, nil
}

// Check finds what is wrong with a source that the types cannot say.
func (s *Source) Check() error {
	if err := s.checkFrom(); err != nil {
		return err
	}
	if _, err := CleanDest(s.Dest.Value); err != nil {
		return &Error{s.Dest.At, err.Error(), "it is a folder inside the site, such as img/plates"}
	}
	if n := s.Name.Value; n != "" && (strings.ContainsAny(n, "/\\\x00") || n == "." || n == "..") {
		return &Error{s.Name.At, fmt.Sprintf("name %q is not a file name", n), "the folder goes into dest"}
	}
	return nil
}

// CleanDest gives a folder of the site in its shortest form, "." for the top.
func CleanDest(dest string) (string, error) {
	if dest == "" {
		return ".", nil
	}
	clean := path.Clean(dest)
	if path.IsAbs(clean) {
		clean = strings.TrimPrefix(clean, "/")
		if clean == "" {
			return ".", nil
		}
	}
	if clean == ".." || strings.HasPrefix(clean, "../") || strings.ContainsAny(clean, "\x00\\") {
		return "", fmt.Errorf("dest %q leads out of the site", dest)
	}
	return clean, nil
}

// Resolve gives a path of the settings relative to the folder of the file that it is written in, with ~ as the home
// folder.
func Resolve(name Text) string {
	if rest, ok := belowHome(name.Value); ok {
		if home, err := os.UserHomeDir(); err == nil {
			return filepath.Join(home, rest)
		}
	}
	if filepath.IsAbs(name.Value) || name.At.File == "" {
		return filepath.Clean(name.Value)
	}
	return filepath.Join(filepath.Dir(name.At.File), name.Value)
}

// belowHome takes ~/ away, or ~\ as it is written on Windows.
func belowHome(name string) (rest string, ok bool) {
	if rest, ok = strings.CutPrefix(name, "~/"); !ok && runtime.GOOS == "windows" {
		return strings.CutPrefix(name, `~\`)
	}
	return rest, ok
}

// Nearest gives the known word that is most like another, or "" when none is like it.
func Nearest(word string, known []string) string {
	best, distance := "", 3
	for _, k := range slices.Sorted(slices.Values(known)) {
		if d := editDistance(strings.ToLower(word), k); d < distance || strings.HasPrefix(k, word) && best == "" {
			best, distance = k, min(d, distance)
		}
	}
	return best
}

// editDistance is the least number of characters to insert, remove or replace (Levenshtein 1965).
func editDistance(a, b string) int {
	row := make([]int, len(b)+1)
	for j := range row {
		row[j] = j
	}
	for i := range len(a) {
		diagonal := row[0]
		row[0] = i + 1
		for j := range len(b) {
			cost := diagonal
			if a[i] != b[j] {
				cost++
			}
			diagonal = row[j+1]
			row[j+1] = min(cost, row[j]+1, row[j+1]+1)
		}
	}
	return row[len(b)]
}

// NearestTarget gives the name of the target that is most like a name, or "".
func (s *Settings) NearestTarget(name string) string { return Nearest(name, s.TargetNames) }
