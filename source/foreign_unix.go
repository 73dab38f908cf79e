//go:build unix

package source

import (
	"fmt"
	"os"
	"path/filepath"
	"syscall"
)

// Foreign says why another user could have written a file, or put another one in its
// place; "" is that none could, but the superuser.
func Foreign(name string) string {
	info, err := os.Stat(name)
	if err != nil {
		return ""
	}
	if why := writable(info, true); why != "" {
		return why
	}
	folder, err := os.Stat(filepath.Dir(name))
	if err != nil || folder.Mode()&os.ModeSticky != 0 {
		return ""
	}
	if why := writable(folder, false); why != "" {
		return "its folder: " + why
	}
	return ""
}

// writable says who else may write what info is of. A group that has the number of its
// user is taken for that user's alone, as most systems make them.
func writable(info os.FileInfo, owned bool) string {
	s, ok := info.Sys().(*syscall.Stat_t)
	switch mode := info.Mode().Perm(); {
	case !ok:
	case owned && int(s.Uid) != os.Geteuid() && s.Uid != 0:
		return fmt.Sprintf("another user, number %d, owns it", s.Uid)
	case mode&0o002 != 0:
		return "all users may write it"
	case mode&0o020 != 0 && s.Gid != s.Uid && int(s.Gid) != os.Getegid():
		return fmt.Sprintf("the group %d may write it", s.Gid)
	}
	return ""
}
