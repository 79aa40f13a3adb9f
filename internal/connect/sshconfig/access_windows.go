package sshconfig

import (
	"os"
	"unsafe"

	"golang.org/x/sys/windows"
)

// The rights of an access list that count as reading and as writing.
const (
	reading = windows.FILE_READ_DATA | windows.GENERIC_READ | windows.GENERIC_ALL
	writing = windows.FILE_WRITE_DATA | windows.FILE_APPEND_DATA | windows.WRITE_DAC | windows.WRITE_OWNER | windows.GENERIC_WRITE | windows.GENERIC_ALL
)

// OthersWrite tells why somebody else than the user and the system's administrators can write a file; empty: nobody
// can.
func OthersWrite(name string, _ os.FileInfo) string {
	return others(name, writing, "can be written by ")
}

// OthersRead tells why a private key is not private: others have rights to its file; empty: nobody has.
func OthersRead(name string, _ os.FileInfo) string {
	return others(name, reading|writing, "can be read by ")
}

// others looks for somebody else in the access list of a file, as OpenSSH does on Windows: the owner, the user, the
// system and its administrators may have rights. Where there is no such list, as on a FAT drive, nothing is known, and
// nothing said.
func others(name string, rights windows.ACCESS_MASK, what string) string {
	facts, err := windows.GetNamedSecurityInfo(name, windows.SE_FILE_OBJECT,
		windows.OWNER_SECURITY_INFORMATION|windows.DACL_SECURITY_INFORMATION)
	if err != nil || facts == nil {
		return ""
	}
	owner, _, err := facts.Owner()
	if err != nil {
		return ""
	}
	me, err := windows.GetCurrentProcessToken().GetTokenUser()
	if err != nil {
		return ""
	}
	if !trusted(owner, me.User.Sid) {
		return "belongs to " + account(owner)
	}
	list, _, err := facts.DACL()
	if err == nil && list == nil {
		return what + "everybody: it has no access list"
	}
	if err != nil {
		return ""
	}
	for i := range uint32(list.AceCount) {
		var entry *windows.ACCESS_ALLOWED_ACE
		if err := windows.GetAce(list, i, &entry); err != nil ||
			entry.Header.AceType != windows.ACCESS_ALLOWED_ACE_TYPE {
			continue
		}
		who := (*windows.SID)(unsafe.Pointer(&entry.SidStart))
		if entry.Header.AceFlags&windows.INHERIT_ONLY_ACE == 0 && entry.Mask&rights != 0 &&
			!trusted(who, me.User.Sid) && !who.Equals(owner) {
			return what + account(who)
		}
	}
	return ""
}

// trusted tells whether somebody may have any rights to a user's files: the user, the system, and its administrators.
func trusted(who, me *windows.SID) bool {
	return who.Equals(me) || who.IsWellKnown(windows.WinLocalSystemSid) ||
		who.IsWellKnown(windows.WinBuiltinAdministratorsSid)
}

func account(who *windows.SID) string {
	name, domain, _, err := who.LookupAccount("")
	if err != nil {
		return who.String()
	}
	return domain + `\` + name
}
