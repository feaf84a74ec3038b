package collect

import (
	"context"
	_ "embed"
	"fmt"
	"os/exec"
	"strings"

	"steady-compass/intake/account"
	"steady-compass/intake/machine"
)

// Script is a shell script (POSIX.1-2017, XCU 2) that prints an account of the machine that it runs on, for machines where nothing may be installed.
//
//go:embed script.sh
var Script string

// WithoutPaths is the script that leaves URL paths out.
func WithoutPaths() string { return strings.Replace(Script, "\npaths=yes\n", "\npaths=no\n", 1) }

// call is the script's last line, which does all.
const call = "steady_compass_account </dev/null"

// Whole is an account of this machine together with what its files and tools say: the packet filter, web servers and certificates, which the script
// reads, by its lists. Where there is no shell it is the account alone.
func Whole(ctx context.Context, a machine.Account, script string) (string, error) {
	shell, err := exec.LookPath("sh")
	if err != nil {
		return a.Text(), nil
	}
	cmd := exec.CommandContext(ctx, shell, "-s")
	cmd.Stdin = strings.NewReader(strings.Replace(script, call, strings.Replace(call, " ", " more ", 1), 1))
	more, err := cmd.Output()
	if err != nil {
		return "", fmt.Errorf("what the machine's files say cannot be read: %w", err)
	}
	return account.Beside(a.Text(), string(more))
}
