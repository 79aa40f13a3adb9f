package sshconfig

import (
	"math"
	"slices"
	"strconv"
	"strings"
)

// kind says how the values of a keyword are written.
type kind struct {
	read    func(value string) (plain string, ok bool)
	list    bool   // a line may have several values
	several bool   // what all lines say counts, and not the first alone
	whole   bool   // the value is the rest of the line
	alias   string // it is another name of a keyword
}

// known are the keywords that are read here. Of those that say nothing about where a connection leads, who logs in and
// how, and what is sent, only the common ones are among them.
var known = map[string]kind{
	"host":    {read: word, list: true},
	"include": {read: filePattern, list: true},

	"hostname":     {read: hostName},
	"user":         {read: withoutTokens},
	"port":         {read: port},
	"proxyjump":    {read: word},
	"proxycommand": {whole: true},

	"identityfile":             {read: word, several: true},
	"certificatefile":          {read: word, several: true},
	"identityagent":            {read: word},
	"identitiesonly":           {read: yesNo},
	"addkeystoagent":           {read: oneOf("yes", "no", "true", "false", "ask", "confirm")},
	"pubkeyauthentication":     {read: yesNo},
	"passwordauthentication":   {read: yesNo},
	"preferredauthentications": {read: word},
	"batchmode":                {read: yesNo},
	"numberofpasswordprompts":  {read: number},

	"kbdinteractiveauthentication":    {read: yesNo},
	"challengeresponseauthentication": {alias: "kbdinteractiveauthentication"},

	"userknownhostsfile":    {read: word, list: true},
	"globalknownhostsfile":  {read: word, list: true},
	"hostkeyalias":          {read: word},
	"stricthostkeychecking": {read: oneOf("yes", "no", "off", "ask", "accept-new", "true", "false")},
	"hashknownhosts":        {read: yesNo},

	"addressfamily":       {read: oneOf("any", "inet", "inet6")},
	"bindaddress":         {read: word},
	"connecttimeout":      {read: seconds},
	"connectionattempts":  {read: number},
	"serveraliveinterval": {read: seconds},
	"serveralivecountmax": {read: number},
	"tcpkeepalive":        {read: yesNo},

	"sendenv": {read: added, list: true, several: true},

	"forwardagent":              {read: yesNo},
	"forwardx11":                {read: yesNo},
	"forwardx11trusted":         {read: yesNo},
	"gssapiauthentication":      {read: yesNo},
	"gssapidelegatecredentials": {read: yesNo},
	"compression":               {read: yesNo},
	"controlmaster":             {read: oneOf("yes", "no", "ask", "auto", "autoask")},
	"controlpath":               {read: word},
	"controlpersist":            {read: seconds},
	"exitonforwardfailure":      {read: yesNo},
	"visualhostkey":             {read: yesNo},
	"requesttty":                {read: oneOf("yes", "no", "force", "auto")},
	"loglevel": {read: oneOf("QUIET", "FATAL", "ERROR", "INFO", "VERBOSE", "DEBUG", "DEBUG1", "DEBUG2",
		"DEBUG3")},
}

func word(value string) (string, bool) { return value, true }

// added takes what is not a minus sign and a pattern of what is taken out.
func added(value string) (string, bool) { return value, value[0] != '-' }

// filePattern takes names of files that mean the same everywhere.
func filePattern(value string) (string, bool) {
	return value, !strings.ContainsAny(value, "%${}") && (value[0] != '~' || strings.HasPrefix(value, "~/"))
}

func withoutTokens(value string) (string, bool) { return value, !strings.ContainsAny(value, "%$") }

// hostName takes the one token that may be in it.
func hostName(value string) (string, bool) {
	return value, !strings.Contains(strings.ReplaceAll(value, "%h", ""), "%")
}

func port(value string) (string, bool) {
	n, err := strconv.Atoi(value)
	return value, err == nil && n > 0 && n < 1<<16 && value[0] >= '1' && value[0] <= '9'
}

func number(value string) (string, bool) {
	n, err := strconv.Atoi(value)
	return value, err == nil && n > 0 && n < math.MaxInt32 && value[0] >= '1' && value[0] <= '9'
}

func yesNo(value string) (string, bool) {
	switch strings.ToLower(value) {
	case "yes", "true":
		return "yes", true
	case "no", "false":
		return "no", true
	}
	return "", false
}

func oneOf(words ...string) func(string) (string, bool) {
	return func(value string) (string, bool) {
		at := slices.IndexFunc(words, func(w string) bool { return strings.EqualFold(w, value) })
		if at < 0 {
			return "", false
		}
		if plain, ok := yesNo(value); ok {
			return plain, true
		}
		if words[at] == "off" {
			return "no", true
		}
		return words[at], true
	}
}

// seconds reads a time as sshd_config(5) describes it, such as 90, 2m or 1h30m; or none.
func seconds(value string) (string, bool) {
	if strings.EqualFold(value, "none") {
		return "none", true
	}
	total, rest := 0, value
	for rest != "" {
		end := strings.IndexFunc(rest, func(r rune) bool { return r < '0' || r > '9' })
		digits, unit := rest, byte('s')
		if end >= 0 {
			digits, unit = rest[:end], rest[end]
			rest = rest[end+1:]
		} else {
			rest = ""
		}
		n, err := strconv.Atoi(digits)
		factor := map[byte]int{'s': 1, 'm': 60, 'h': 3600, 'd': 86400, 'w': 7 * 86400}[unit|0x20]
		if err != nil || factor == 0 || n > 1e6 {
			return "", false
		}
		total += n * factor
	}
	return strconv.Itoa(total), value != ""
}
