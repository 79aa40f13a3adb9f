package targets

import (
	"fmt"
	"net/url"
	"path"
	"path/filepath"
	"regexp"
	"runtime"
	"strconv"
	"strings"
)

// Kind is how a target is reached.
type Kind string

// The kinds of target.
const (
	Folder Kind = "file"
	SSH    Kind = "ssh"
	SFTP   Kind = "sftp"
	FTP    Kind = "ftp"
	FTPS   Kind = "ftps" // FTP over TLS, which is asked for before the login

	Archive Kind = "archive" // a file of this machine, as a whole

	Container Kind = "container" // Host is its name or id; with User, the project, whose service User is
)

// Address is where a site is.
type Address struct {
	Kind       Kind
	User, Host string
	Port       int    // 0: the usual one
	Path       string // absolute; or relative to the home folder when Home is set
	Home       bool
}

// AddressError tells what is wrong with a target's address.
type AddressError struct {
	Text, Reason, Fix string
}

func (e *AddressError) Error() string {
	text := fmt.Sprintf("target address %q %s", e.Text, e.Reason)
	if e.Fix != "" {
		text += "; " + e.Fix
	}
	return text
}

// ArchiveAddress gives the address of an archive, and whether a text is one.
func ArchiveAddress(text string) (name string, is bool) {
	return strings.CutPrefix(text, ArchivePrefix)
}

// ParseAddress reads ssh://USER@HOST:PORT/PATH, sftp://…, USER@HOST:PATH, file:///PATH or a plain path, which is
// relative to the current folder. After a host /~/ begins a path below the home folder.
func ParseAddress(text string) (Address, error) {
	if name, is := ArchiveAddress(text); is {
		return parseArchive(text, name)
	}
	if !strings.Contains(text, "://") {
		return plainPath(text)
	}
	return known().Parse(text)
}

// parseFolder reads file:///PATH.
func parseFolder(text, rest string) (Address, error) {
	if !strings.HasPrefix(rest, "/") {
		return Address{}, &AddressError{text, "names a host", "a folder of this machine reads file:///PATH"}
	}
	unescaped, err := url.PathUnescape(rest)
	if err != nil {
		return Address{}, &AddressError{text, "has a wrong escape", "a percent sign is written %25"}
	}
	return plainPath(filepath.FromSlash(unescaped))
}

// parseURL reads SCHEME://USER@HOST:PORT/PATH.
func parseURL(text, rest string) (Address, error) {
	wrong := func(reason, fix string) (Address, error) { return Address{}, &AddressError{text, reason, fix} }
	scheme, _, _ := strings.Cut(text, "://")
	a := Address{Kind: Kind(scheme)}
	parsed, err := url.Parse(text)
	if err != nil {
		if _, port, ok := strings.Cut(hostPart(rest), ":"); ok {
			return wrong(fmt.Sprintf("has the port %q, which is not a number from 1 to 65535", port), "")
		}
		return wrong("cannot be read as a URL", "it reads "+scheme+"://USER@HOST:PORT/PATH")
	}
	if parsed.RawQuery != "" || parsed.Fragment != "" {
		return wrong("has a ? or # in it", "write them %3F and %23 in a path")
	}
	a.Host = parsed.Hostname()
	if a.Host == "" {
		return wrong("names no host", "it reads "+scheme+"://USER@HOST:PORT/PATH")
	}
	if _, has := parsed.User.Password(); has {
		return Address{}, &AddressError{parsed.Redacted(), "has a password in it, where others can read it",
			"take it out and name where it is found under password:"}
	}
	a.User = parsed.User.Username()
	if port := parsed.Port(); port != "" {
		if a.Port, err = strconv.Atoi(port); err != nil || a.Port < 1 || a.Port > 65535 {
			return wrong(fmt.Sprintf("has the port %q, which is not a number from 1 to 65535", port), "")
		}
	}
	switch below, home := strings.CutPrefix(parsed.Path, "/~/"); {
	case parsed.Path == "" || home && below == "":
		return wrong("has no path", "end it with the folder of the site, such as /srv/www/site")
	case home:
		a.Path, a.Home = path.Clean(below), true
		if a.Path == ".." || strings.HasPrefix(a.Path, "../") || a.Path == "." {
			return wrong("leads out of the home folder", "")
		}
	default:
		a.Path = path.Clean(parsed.Path)
	}
	return a, nil
}

// containerName is what an engine takes for a name or an id.
var containerName = regexp.MustCompile(`^[a-zA-Z0-9][a-zA-Z0-9_.-]*$`)

// parseContainer reads container://NAME/PATH, or container://SERVICE@PROJECT/PATH. A path of Windows reads C:/PATH, or
// C:\PATH.
func parseContainer(text, rest string) (Address, error) {
	name, folder, _ := strings.Cut(rest, "/")
	service, project, isService := strings.Cut(name, "@")
	if !isService {
		service, project = "", name
	}
	unescaped, err := url.PathUnescape(folder)
	switch {
	case !containerName.MatchString(project), isService && !containerName.MatchString(service):
		return Address{}, &AddressError{text, fmt.Sprintf("names the container %q", name),
			"it reads container://NAME/PATH, with the name or the id of a container, or container://SERVICE@PROJECT/PATH"}
	case err != nil:
		return Address{}, &AddressError{text, "has a wrong escape", "a percent sign is written %25"}
	}
	clean := path.Clean("/" + unescaped)
	if drive, below := unescaped[:min(len(unescaped), 2)], strings.ReplaceAll(unescaped[min(len(unescaped), 2):], `\`,
		"/"); onDrive(drive) {
		if below != "" && below[0] != '/' {
			return Address{}, &AddressError{text, "names a drive and no folder from its top on",
				"it reads container://NAME/C:/PATH"}
		}
		clean = path.Clean("/" + below)
		if clean != "/" {
			clean = strings.ToUpper(drive) + clean
		}
	}
	if clean == "/" {
		return Address{}, &AddressError{text, "has no path", "end it with the folder of the site, such as /usr/share/site"}
	}
	return Address{Kind: Container, User: service, Host: project, Path: clean}, nil
}

// onDrive tells whether a path begins with a drive, as those of Windows do.
func onDrive(name string) bool {
	return len(name) >= 2 && name[1] == ':' && (name[0]|0x20) >= 'a' && (name[0]|0x20) <= 'z'
}

// above is path.Dir for paths that may begin with a drive.
func above(name string) string {
	if onDrive(name) {
		return name[:2] + path.Dir(name[2:])
	}
	return path.Dir(name)
}

func hostPart(rest string) string {
	host, _, _ := strings.Cut(rest, "/")
	return host[strings.LastIndexByte(host, '@')+1:]
}

func plainPath(text string) (Address, error) {
	if text == "" {
		return Address{}, &AddressError{text, "is empty", ""}
	}
	if login, host, name, ok := shortParts(text); ok {
		return shortForm(text, login, host, name)
	}
	absolute, err := filepath.Abs(text)
	if err != nil {
		return Address{}, &AddressError{text, err.Error(), ""}
	}
	if filepath.Dir(absolute) == absolute {
		return Address{}, &AddressError{text, "is the top of the file system", "name a folder below it"}
	}
	return Address{Kind: Folder, Path: absolute}, nil
}

// IsShort tells whether a text is [USER@]HOST:PATH and no path of this machine: as everywhere where hosts are named in
// this way, a colon before any slash makes it one.
func IsShort(text string) bool {
	_, _, _, ok := shortParts(text)
	return ok
}

// shortParts parts [USER@]HOST:PATH. The login has the @ at its end; the address of a host may be in brackets.
func shortParts(text string) (login, host, name string, ok bool) {
	if runtime.GOOS == "windows" && onDrive(text) {
		return "", "", "", false
	}
	rest := text
	if at := strings.IndexByte(text, '@'); at >= 0 && !strings.ContainsAny(text[:at], `/\:[`) {
		login, rest = text[:at+1], text[at+1:]
	}
	if bracketed, is := strings.CutPrefix(rest, "["); is {
		host, name, ok = strings.Cut(bracketed, "]:")
	} else {
		host, name, ok = strings.Cut(rest, ":")
	}
	return login, host, name, ok && !strings.ContainsAny(host, `/\`)
}

// shortForm reads [USER@]HOST:PATH, where a path that does not begin with a slash is below the home folder.
func shortForm(text, login, host, name string) (Address, error) {
	user, named := strings.CutSuffix(login, "@")
	a := Address{Kind: SSH, User: user, Host: host, Path: path.Clean(name), Home: !strings.HasPrefix(name, "/")}
	switch {
	case named && user == "" || host == "":
		return Address{}, &AddressError{text, "names no user or no host",
			"it reads USER@HOST:PATH or HOST:PATH, or ./" + text + " for a folder of that name"}
	case name == "" || a.Home && a.Path == ".":
		return Address{}, &AddressError{text, "has no path", "end it with the folder of the site"}
	case a.Home && (a.Path == ".." || strings.HasPrefix(a.Path, "../")):
		return Address{}, &AddressError{text, "leads out of the home folder", ""}
	}
	return a, nil
}

// String gives the address in its full form.
func (a Address) String() string {
	switch a.Kind {
	case Folder:
		return "file://" + filepath.ToSlash(a.Path)
	case Archive:
		return ArchivePrefix + filepath.ToSlash(a.Path)
	}
	u := url.URL{Scheme: string(a.Kind), Host: a.Host, Path: a.Path}
	if strings.Contains(a.Host, ":") {
		u.Host = "[" + a.Host + "]"
	}
	if a.Port != 0 {
		u.Host += ":" + strconv.Itoa(a.Port)
	}
	if a.User != "" {
		u.User = url.User(a.User)
	}
	if a.Home {
		u.Path = "/~/" + a.Path
	}
	return u.String()
}
