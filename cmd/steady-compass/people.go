package main

import (
	"context"
	"fmt"
	"os"
	"os/user"
	"strings"
	"time"

	"steady-compass/people"
	"steady-compass/store"
)

type peopleCommand struct {
	List peopleList `cmd:"" help:"List the accounts."`
	Add  peopleAdd  `cmd:"" help:"Make an account, and print the one-time code by which its person sets a password."`
	Code peopleCode `cmd:"" help:"Print another one-time code for an account."`
	Role peopleRole `cmd:"" help:"Give an account another role."`
	Off  peopleOff  `cmd:"" help:"Switch an account off; its sessions and tokens end."`
	On   peopleOn   `cmd:"" help:"Switch an account on again."`
}

// atConsole is how the log names who gives a command: by whom the system knows its process.
func atConsole() string {
	u, err := user.Current()
	if err != nil {
		return "a command"
	}
	if by := os.Getenv("SUDO_USER"); by != "" && u.Username == "root" {
		return by + " as root, by a command"
	}
	return u.Username + ", by a command"
}

// noted keeps what was done to accounts from the console.
func noted(ctx context.Context, db *store.Store, what string) error {
	return db.Note(ctx, people.Event{At: time.Now(), Who: atConsole(), What: what})
}

type peopleList struct {
	inDatabase
	JSON bool `help:"Print JSON." name:"json"`
}

func (c *peopleList) Run(ctx context.Context, s streams) error {
	return c.on(ctx, func(db *store.Store) error {
		all, err := db.Accounts(ctx)
		if err != nil {
			return err
		}
		if c.JSON {
			return printJSON(s.out, map[string]any{"people": all})
		}
		if len(all) == 0 {
			_, err := fmt.Fprintln(s.out, "Nobody has an account yet; people add makes one.")
			return err
		}
		rows := [][]string{{"name", "role", ""}}
		for _, a := range all {
			var state []string
			if a.Off {
				state = append(state, "off")
			}
			if !a.Secured && !a.Linked {
				state = append(state, "not signed in yet")
			}
			if !a.Seen.IsZero() {
				state = append(state, "last here "+a.Seen.Format(time.DateOnly))
			}
			rows = append(rows, []string{a.Name, string(a.Role), strings.Join(state, ", ")})
		}
		newPaper(s.out).table(rows)
		return nil
	})
}

type peopleAdd struct {
	inDatabase
	Name  string `arg:"" help:"What it is called: letters, digits, and . - _ @"`
	Role  string `help:"What it may do." enum:"reader,editor,keeper" default:"reader"`
	Email string `help:"By which a sign-in elsewhere is known." placeholder:"ADDRESS"`
}

func (c *peopleAdd) Run(ctx context.Context, s streams) error {
	return c.on(ctx, func(db *store.Store) error {
		if err := people.CheckName(c.Name); err != nil {
			return err
		}
		code := people.NewCode()
		a, err := db.AddAccount(ctx, people.Account{Name: c.Name, Role: people.Role(c.Role), Email: c.Email, Code: people.Digest(code), Invited: time.Now().Add(people.CodeLife)}, "", false)
		if err != nil {
			return err
		}
		_, _ = fmt.Fprintln(s.out, code)
		return noted(ctx, db, fmt.Sprintf("made the account %s, %s", a.Name, a.Role))
	})
}

type peopleCode struct {
	inDatabase
	Name string `arg:"" help:"The account."`
}

func (c *peopleCode) Run(ctx context.Context, s streams) error {
	return c.on(ctx, func(db *store.Store) error {
		a, err := db.Account(ctx, c.Name)
		if err != nil {
			return err
		}
		code := people.NewCode()
		if err := db.Invite(ctx, a.ID, people.Digest(code), time.Now().Add(people.CodeLife)); err != nil {
			return err
		}
		_, _ = fmt.Fprintln(s.out, code)
		return noted(ctx, db, "gave "+a.Name+" a one-time code")
	})
}

// setAccount changes an account: who may write the file may see to them.
func (c *inDatabase) setAccount(ctx context.Context, name string, how func(*people.Account), what string) error {
	return c.on(ctx, func(db *store.Store) error {
		a, err := db.Account(ctx, name)
		if err != nil {
			return err
		}
		how(&a)
		if err := db.SetAccount(ctx, a); err != nil {
			return err
		}
		return noted(ctx, db, fmt.Sprintf(what, a.Name))
	})
}

type peopleRole struct {
	inDatabase
	Name string `arg:"" help:"The account."`
	Role string `arg:"" help:"What it may do: reader, editor, keeper." enum:"reader,editor,keeper"`
}

func (c *peopleRole) Run(ctx context.Context, _ streams) error {
	return c.setAccount(ctx, c.Name, func(a *people.Account) { a.Role = people.Role(c.Role) }, "made %s "+c.Role)
}

type peopleOff struct {
	inDatabase
	Name string `arg:"" help:"The account."`
}

func (c *peopleOff) Run(ctx context.Context, _ streams) error {
	return c.setAccount(ctx, c.Name, func(a *people.Account) { a.Off = true }, "switched the account %s off")
}

type peopleOn struct {
	inDatabase
	Name string `arg:"" help:"The account."`
}

func (c *peopleOn) Run(ctx context.Context, _ streams) error {
	return c.setAccount(ctx, c.Name, func(a *people.Account) { a.Off = false }, "switched the account %s on")
}
