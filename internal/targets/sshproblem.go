package targets

import (
	"errors"
	"fmt"
	"runtime"
	"slices"

	"tartine/internal/connect"
	"tartine/internal/connect/sshconfig"
)

// problemsOfSSH are those of hosts that are reached over SSH.
var problemsOfSSH = []rule{
	func(err error) *Problem {
		if !errors.Is(err, sshconfig.ErrForeign) {
			return nil
		}
		return &Problem{Misused, err.Error(), nil, "install OpenSSH's client, or name a file that is plainer with --ssh-config"}
	},
	forError(func(file *sshconfig.Error) *Problem {
		next := "correct that line: ssh refuses it, too"
		if file.Line == 0 {
			next = "it must be a file that you can read and nobody else can write; another one is named with --ssh-config"
		}
		return &Problem{Misused, file.Error(), nil, next}
	}),
	forFailed(func(key *connect.HostKeyError, failed *connect.Error) *Problem {
		return &Problem{Unsafe, fmt.Sprintf("the host key of %s is not trusted: %v", failed.Address, key), nil, hostKeyAdvice(key)}
	}),
	forFailed(func(identity *connect.IdentityError, _ *connect.Error) *Problem {
		return &Problem{What: identity.Error(), Next: identityAdvice(identity)}
	}),
	forFailed(func(login *connect.LoginError, failed *connect.Error) *Problem {
		if failed.Step == connect.Lookup || failed.Step == connect.Port {
			return nil
		}
		return &Problem{What: fmt.Sprintf("%s does not accept the login of user %s: %v", failed.Address, failed.User,
			login), Next: loginAdvice(login)}
	}),
	atStep(connect.Start, func(failed *connect.Error) *Problem {
		return &Problem{What: fmt.Sprintf("%s accepts the login of user %s, but offers no file transfer: %v",
			failed.Address, failed.User, failed.Err),
			Next: "ask the server's owner to switch its SFTP subsystem on; where it is on, the user's login shell must print nothing when it starts"}
	}),
	atStep(connect.HostKey, func(failed *connect.Error) *Problem { // the files and commands that settings name for them
		return &Problem{What: failed.Error(), Next: "correct what the SSH settings or --known-hosts name, or name others with --ssh-config"}
	}),
}

func hostKeyAdvice(key *connect.HostKeyError) string {
	switch {
	case key.Unfit != nil:
		return "ask the server's owner for another key; ssh refuses this one, too"
	case key.Revoked != nil:
		return "ask the server's owner for its new key: this one is known to have been stolen or given up"
	case key.Certificate != nil:
		return "ask the server's owner for a new certificate, or pin the key with host_key: " + key.Fingerprint
	case !key.Unknown():
		return "ask the server's owner whether the key was changed: if it was not, somebody else answers in its place"
	}
	return fmt.Sprintf("compare the fingerprint with one from the server's owner, then: tartine trust TARGET --fingerprint %s, or put host_key: %s into the target", key.Fingerprint, key.Fingerprint)
}

// MakePrivate is the command after which nobody else can read a file.
func MakePrivate(file string) string {
	if runtime.GOOS == "windows" {
		return fmt.Sprintf(`icacls "%s" /inheritance:r /grant:r "%%USERNAME%%:F"`, file)
	}
	return "chmod 600 " + file
}

func identityAdvice(identity *connect.IdentityError) string {
	switch {
	case identity.Open:
		return MakePrivate(identity.File)
	case identity.Locked:
		return "hand it to your key agent first: ssh-add " + identity.File + "; or say where it is found with passphrase:"
	case identity.Public:
		return "name the private key in identity: or --identity, or hand it to your key agent with ssh-add"
	}
	return "name the private key, not the public one, in identity: or --identity"
}

func loginAdvice(login *connect.LoginError) string {
	accepts := func(method string) bool { return slices.Contains(login.Accepts, method) }
	switch {
	case login.Ended && len(login.Tried) > 1:
		return "it allows fewer tries than there are keys: name the one key with --identity or identity:"
	case accepts("publickey") && len(login.Tried) == 0:
		return "name a key with --identity or identity:, or hand one to your key agent with ssh-add"
	case slices.Contains(login.Tried, "the password"):
		return "check the user name, and the password that password: leads to"
	case !accepts("publickey") && (accepts("password") || accepts("keyboard-interactive")):
		return "check the user name, and say where the password is found with password: {env: NAME} or the like"
	}
	return "check the user name, and that this key is among the user's authorized keys at the server"
}
