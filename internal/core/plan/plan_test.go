package plan_test

import (
	"context"
	"io"
	"os"
	"path/filepath"
	"strings"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"ostrov/internal/core/coretest"
	"ostrov/internal/core/facts"
	"ostrov/internal/core/keep"
	"ostrov/internal/core/plan"
	"ostrov/internal/core/problem"
	"ostrov/internal/core/tree"
)

// text fills a target with a text.
func text(s string) plan.Fill {
	return func(_ context.Context, stage *plan.Stage) error {
		return stage.Write(".", tree.Entry{Kind: tree.File, Mode: 0o644}, func(w io.Writer) error { _, err := io.WriteString(w, s); return err })
	}
}

// settings is the folder of Tidewrack's settings.
func settings(w *coretest.World) string {
	return w.Path("prefix", "drive_c", "users", "keeper", "Documents", "Tidewrack", "config")
}

// write plans to write one file of settings and carries it out.
func write(t *testing.T, w *coretest.World, content string) {
	t.Helper()
	p := plan.New(t.Context(), w.Home, w.See("tidewrack"), "write "+content, nil)
	p.Put(t.Context(), plan.Step{What: "display.ini"}, plan.LeaveAside(), nil, plan.Target{Root: settings(w), Name: "display.ini", Fill: text(content)})
	require.NoError(t, p.Err())
	carryOut(t, w, p)
}

func carryOut(t *testing.T, w *coretest.World, p *plan.Plan) {
	t.Helper()
	_, err := keep.Before(t.Context(), w.Home, p, keep.PresentList)
	require.NoError(t, err)
	_, err = p.Apply(t.Context())
	require.NoError(t, err)
	w.Again()
}

func read(t *testing.T, w *coretest.World) string {
	t.Helper()
	data, err := os.ReadFile(filepath.Join(settings(w), "display.ini"))
	require.NoError(t, err)
	return string(data)
}

// step takes back or makes again, and says what is there then.
func step(t *testing.T, w *coretest.World, how func(context.Context, *plan.Undoing) error, next func() (*plan.Undoing, error)) string {
	t.Helper()
	u, err := next()
	require.NoError(t, err)
	_, err = keep.Before(t.Context(), w.Home, u.Plan, keep.PresentList)
	require.NoError(t, err)
	require.NoError(t, how(t.Context(), u))
	w.Again()
	return read(t, w)
}

func apply(ctx context.Context, u *plan.Undoing) error { _, err := u.Apply(ctx); return err }

// TestBackAndForthThroughHistory makes several changes and goes through them in both directions.
func TestBackAndForthThroughHistory(t *testing.T) {
	w := coretest.New(t)
	states := []string{read(t, w)}
	for i := range 6 {
		states = append(states, strings.Repeat("x", i+1))
		write(t, w, states[i+1])
	}
	undo := func() (*plan.Undoing, error) { return plan.Undo(t.Context(), w.Home, nil) }
	redo := func() (*plan.Undoing, error) { return plan.Redo(t.Context(), w.Home, nil) }
	_, err := redo()
	assert.ErrorIs(t, err, problem.ErrUsage, "nothing was taken back")
	for i := 5; i >= 0; i-- {
		assert.Equal(t, states[i], step(t, w, apply, undo))
	}
	_, err = undo()
	assert.ErrorIs(t, err, problem.ErrUsage, "there is nothing more")
	for i := 1; i <= 3; i++ {
		assert.Equal(t, states[i], step(t, w, apply, redo))
	}
	write(t, w, "a new one")
	_, err = redo()
	assert.ErrorIs(t, err, problem.ErrUsage, "what was taken back before a new change stays so")
	assert.Equal(t, states[3], step(t, w, apply, undo))
	list, err := plan.History(t.Context(), w.Home, nil)
	require.NoError(t, err)
	assert.Len(t, list, 7)
	assert.True(t, list[6].Undone)
	assert.False(t, list[2].Undone)
	assert.True(t, list[5].Undone)
}

// TestTheOrderIsNotTheClocks sets the clock back between two changes.
func TestTheOrderIsNotTheClocks(t *testing.T) {
	w := coretest.New(t)
	first := read(t, w)
	write(t, w, "second")
	now := w.Now
	w.Now = func() time.Time { return now().AddDate(0, 0, -1) }
	w.Again()
	write(t, w, "third")
	undo := func() (*plan.Undoing, error) { return plan.Undo(t.Context(), w.Home, nil) }
	assert.Equal(t, "second", step(t, w, apply, undo))
	assert.Equal(t, first, step(t, w, apply, undo))
}

// TestWithoutSafetyNothingIsApplied forgets to secure a plan that replaces something.
func TestWithoutSafetyNothingIsApplied(t *testing.T) {
	w := coretest.New(t)
	before := read(t, w)
	p := plan.New(t.Context(), w.Home, w.See("tidewrack"), "careless", nil)
	p.Put(t.Context(), plan.Step{What: "display.ini"}, plan.KeepLine("no-such-line"), nil, plan.Target{Root: settings(w), Name: "display.ini", Fill: text("lost")})
	_, err := p.Apply(t.Context())
	require.Error(t, err)
	assert.Equal(t, before, read(t, w))
}

// TestWhatChangedSinceItWasPlannedStays lets somebody else write a target between the plan and its application.
func TestWhatChangedSinceItWasPlannedStays(t *testing.T) {
	w := coretest.New(t)
	p := plan.New(t.Context(), w.Home, w.See("tidewrack"), "late", nil)
	p.Put(t.Context(), plan.Step{What: "display.ini"}, plan.LeaveAside(), nil, plan.Target{Root: settings(w), Name: "display.ini", Fill: text("planned")})
	_, err := keep.Before(t.Context(), w.Home, p, keep.PresentList)
	require.NoError(t, err)
	require.NoError(t, os.WriteFile(filepath.Join(settings(w), "display.ini"), []byte("written by the game"), 0o644))
	_, err = p.Apply(t.Context())
	require.Error(t, err)
	assert.Equal(t, "written by the game", read(t, w))
}

// TestAPlanThatOnlyTellsTheLogbookIsAChange activates another line, which undo takes back.
func TestAPlanThatOnlyTellsTheLogbookIsAChange(t *testing.T) {
	w := coretest.New(t)
	_, err := keep.Keep(t.Context(), w.Home, w.In("tidewrack"), keep.Request{})
	require.NoError(t, err)
	st := w.See("tidewrack")
	require.Len(t, st.Lines, 1)
	p, err := keep.Fresh(t.Context(), w.Home, st, "Night Run", keep.SwapRequest{})
	require.NoError(t, err)
	carryOut(t, w, p)
	back := func() *facts.State { return w.See("tidewrack") }
	require.Equal(t, "night-run", back().Current().Name)
	u, err := plan.Undo(t.Context(), w.Home, nil)
	require.NoError(t, err)
	_, err = keep.Before(t.Context(), w.Home, u.Plan, keep.PresentList)
	require.NoError(t, err)
	_, err = u.Apply(t.Context())
	require.NoError(t, err)
	w.Again()
	assert.Equal(t, "tidewrack", back().Current().Name)
	assert.Len(t, back().Saves, len(st.Saves))
}
