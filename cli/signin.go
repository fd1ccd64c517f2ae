package cli

import (
	"context"
	"encoding/json"
	"errors"
	"fmt"
	"net/url"
	"os"
	"path/filepath"
	"time"

	"github.com/urfave/cli/v3"

	"proudsieve/client"
	"proudsieve/durable"
	"proudsieve/service/records"
)

// signedIn is what a command line keeps of having come in somewhere, in a file of mode 0600.
type signedIn struct {
	Server  string    `json:"server"`
	Name    string    `json:"name"`
	Token   string    `json:"token"`
	TokenID int64     `json:"token_id"`
	Expires time.Time `json:"expires"`
}

// signedInFile is the file for a service.
func signedInFile(server string) (string, error) {
	base, err := os.UserConfigDir()
	if err != nil {
		return "", err
	}
	return filepath.Join(base, "proudsieve", "signed-in", url.PathEscape(server)+".json"), nil
}

// signedInAt is what is kept for a service; nil where nothing is.
func signedInAt(server string) (*signedIn, error) {
	path, err := signedInFile(server)
	if err != nil { // there is no place for it, so that it is not there
		return nil, nil
	}
	raw, err := durable.ReadSecret(path)
	if errors.Is(err, os.ErrNotExist) {
		return nil, nil
	}
	if err != nil {
		return nil, err
	}
	kept := &signedIn{}
	if err := json.Unmarshal(raw, kept); err != nil {
		return nil, fmt.Errorf("%s is not as proudsieve sign-in wrote it; remove it, and sign in again: %w", path, err)
	}
	return kept, nil
}

// inForce is the token, while it is in force.
func (k *signedIn) inForce() (string, error) {
	if time.Now().After(k.Expires) {
		return "", fmt.Errorf("you were signed in at %s as %s until %s; come in again with: proudsieve sign-in", k.Server, k.Name, when(k.Expires))
	}
	return k.Token, nil
}

// askEvery is how often a command line asks whether it was let in.
const askEvery = time.Second

func signInCommand() *cli.Command {
	return &cli.Command{Name: "sign-in", Usage: "come in as yourself, by a code that you type into the console",
		Description: "It lasts for twelve hours. Programs that run by themselves have tokens of their own: see proudsieve token.",
		Action: func(ctx context.Context, c *cli.Command) error {
			if _, err := arguments(c, ""); err != nil {
				return err
			}
			o, server := outputOf(c), serverOf(c)
			path, err := signedInFile(server)
			if err != nil {
				return err
			}
			service := &client.Client{Server: server}
			asked, err := service.AskToSignIn(ctx, client.AskToSignInJSONRequestBody{Machine: machine()})
			if err != nil {
				return err
			}
			o.line("Open %s%s in a browser in which you are signed in, and type this code, until %s:", server, asked.Path, asked.Until.Local().Format("15:04"))
			o.line("")
			o.line("    %s", asked.Code)
			o.line("")
			outcome, err := awaitSignIn(ctx, service, asked.Secret)
			if err != nil {
				return err
			}
			raw, err := json.MarshalIndent(signedIn{server, outcome.Name, outcome.Token, outcome.TokenID, *outcome.Expires}, "", "  ")
			if err != nil {
				return err
			}
			if err := durable.MakeDirectory(filepath.Dir(path), 0o700); err != nil {
				return err
			}
			if err := durable.WriteFile(path, append(raw, '\n'), 0o600); err != nil {
				return err
			}
			o.line("You are signed in at %s as %s until %s. Leave with: proudsieve sign-out", server, safe(outcome.Name), when(*outcome.Expires))
			return nil
		}}
}

// machine is what the person is told of where the command line runs.
func machine() string {
	name, err := os.Hostname()
	if err != nil || name == "" {
		return "an unnamed machine"
	}
	return name
}

// awaitSignIn waits until somebody lets the command line in.
func awaitSignIn(ctx context.Context, c *client.Client, secret string) (*records.SignInOutcome, error) {
	for {
		outcome, err := c.CollectSignIn(ctx, client.CollectSignInJSONRequestBody{Secret: secret})
		var problem *client.Problem
		switch {
		case errors.As(err, &problem) && problem.Status >= 500: // a node that gives way to another
		case err != nil:
			return nil, err
		case outcome.State == "let in":
			return outcome, nil
		case outcome.State == "refused":
			return nil, errors.New("it was refused in the console")
		case outcome.State == "over":
			return nil, errors.New("nobody typed the code in time; begin again")
		}
		select {
		case <-ctx.Done():
			return nil, ctx.Err()
		case <-time.After(askEvery):
		}
	}
}

func signOutCommand() *cli.Command {
	return &cli.Command{Name: "sign-out", Usage: "end what sign-in began", Action: func(ctx context.Context, c *cli.Command) error {
		if _, err := arguments(c, ""); err != nil {
			return err
		}
		o, server := outputOf(c), serverOf(c)
		kept, err := signedInAt(server)
		if err != nil {
			return err
		}
		if kept == nil {
			return fmt.Errorf("you are not signed in at %s by proudsieve sign-in", server)
		}
		path, err := signedInFile(server)
		if err != nil {
			return err
		}
		if time.Now().Before(kept.Expires) {
			err := (&client.Client{Server: server, Token: kept.Token}).RevokeToken(ctx, kept.TokenID)
			var problem *client.Problem
			if err != nil && !(errors.As(err, &problem) && problem.Status == 401) { // it was ended elsewhere
				return err
			}
		}
		if err := os.Remove(path); err != nil {
			return err
		}
		o.line("You are signed out at %s.", server)
		return nil
	}}
}
