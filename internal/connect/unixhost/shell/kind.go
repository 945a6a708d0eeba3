package shell

import "strconv"

// RegularFile is the kind of files that can be read and replaced.
const RegularFile = "regular file"

// KindOf says what a file is, by its mode in hexadecimal as stat's %f writes it: a
// number where %F is a word of the host's language (inode(7)).
func KindOf(mode string) string {
	n, err := strconv.ParseUint(mode, 16, 32)
	if err != nil {
		return "file of an unknown kind"
	}
	switch n & 0xf000 {
	case 0x8000:
		return RegularFile
	case 0x4000:
		return "directory"
	case 0xa000:
		return "symbolic link"
	case 0x1000:
		return "pipe"
	case 0xc000:
		return "socket"
	case 0x2000, 0x6000:
		return "device"
	}
	return "file of an unknown kind"
}
