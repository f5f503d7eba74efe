package operate

import (
	"context"
	"slices"
	"strings"

	"hollowreed/internal/core/fault"
	"hollowreed/internal/core/flow/running"
	"hollowreed/internal/store"
)

// RevertTable lets rows of a table be again as the table has them: those of some keys, or all that flows have changed.
func (o Operator) RevertTable(ctx context.Context, table, title string, keys ...string) error {
	if err := store.DeleteState(ctx, o.DB, o.Scope, running.TableSpace(table), keys...); err != nil {
		return err
	}
	return o.audit(ctx, "took back rows that flows had changed", nil, title)
}

// DeleteSecret removes a secret of an environment that no connection uses; tokens that a system has given may go in any case.
func (o Operator) DeleteSecret(ctx context.Context, env, name string) error {
	users, err := store.SecretUsers(ctx, o.DB, o.In(env))
	if err != nil {
		return err
	}
	secrets, err := store.Secrets(ctx, o.DB, o.In(env))
	if err != nil {
		return err
	}
	i := slices.IndexFunc(secrets, func(s store.Secret) bool { return s.Name == name })
	if by := users[name]; len(by) > 0 && i >= 0 && secrets[i].Type != "oauth tokens" {
		return fault.New(fault.Setting, "%s is used by %s", name, strings.Join(by, ", ")).WithFix("Choose another secret there first")
	}
	return store.DeleteSecret(ctx, o.DB, o.In(env), name)
}

// NoteHealth notes how connections of an environment were when they were tested.
func (o Operator) NoteHealth(ctx context.Context, env string, list ...store.Health) error {
	_, err := store.SaveHealth(ctx, o.DB, o.In(env), list...)
	return err
}
