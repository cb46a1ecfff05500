package landing

import (
	"fmt"
	"os"
	"path/filepath"
	"strconv"
	"strings"
)

// holder names the program that listens at a TCP port, when this user may know.
func holder(port string) string {
	inodes := map[string]bool{}
	for _, table := range []string{"/proc/net/tcp", "/proc/net/tcp6"} {
		raw, err := os.ReadFile(table)
		if err != nil {
			continue
		}
		for _, line := range strings.Split(string(raw), "\n")[1:] {
			f := strings.Fields(line)
			const listening = "0A"
			if len(f) < 10 || f[3] != listening {
				continue
			}
			_, hex, _ := strings.Cut(f[1], ":")
			if n, err := strconv.ParseUint(hex, 16, 16); err == nil && strconv.FormatUint(n, 10) == port {
				inodes["socket:["+f[9]+"]"] = true
			}
		}
	}
	if len(inodes) == 0 {
		return ""
	}
	links, _ := filepath.Glob("/proc/[0-9]*/fd/*") // the pattern is well formed
	for _, link := range links {
		if target, err := os.Readlink(link); err == nil && inodes[target] {
			pid := strings.Split(link, "/")[2]
			name, err := os.ReadFile("/proc/" + pid + "/comm")
			if err == nil {
				return fmt.Sprintf("%s (process %s)", strings.TrimSpace(string(name)), pid)
			}
		}
	}
	return ""
}
