package coretest_test

import (
	"errors"
	"fmt"
	"maps"
	"math/rand/v2"
	"os"
	"path/filepath"
	"slices"
	"strings"
	"testing"
	"time"

	"github.com/stretchr/testify/require"
	"github.com/zeebo/blake3"

	"ostrov/internal/core/archive"
	"ostrov/internal/core/coretest"
	"ostrov/internal/core/facts"
	"ostrov/internal/core/handle"
	"ostrov/internal/core/keep"
	"ostrov/internal/core/plan"
	"ostrov/internal/core/problem"
	"ostrov/internal/core/tree"
	"ostrov/internal/longtest"
)

// model is two players' homes, the first one with two installs that reach one folder of saves, a game that writes, empties, deletes and rotates
// its slots, and a cloud that puts old states back. The model knows what is in each slot and who put it there.
type model struct {
	*coretest.World
	t     *testing.T
	r     *rand.Rand
	homes [2]string
	at    int // which home is open
	turn  int
	done  []string
	last  string // what the last change was, and in which home

	owner map[string]string                    // of each slot, as the first home said at its last look
	lost  map[string]bool                      // slots that somebody else than the first home ever took a save from
	gone  map[string]bool                      // slots that the game emptied of their save, and that the first home has not been told of by a keep
	ids   [2]map[string]string                 // the id of each address that was ever given
	kept  [2][]keptState                       // all that was ever kept
	past  map[string][]map[string][]byte       // former contents of each slot
	byID  [2]map[string]map[string]tree.Digest // the states that each snapshot has, by its id
}

type keptState struct {
	address, slot string
	digest        tree.Digest
}

func (m *model) slot() string { return fmt.Sprintf("slot_%02d", m.r.IntN(6)) }

func (m *model) home(i int) {
	if m.at != i {
		m.Switch(m.homes[i])
		m.at = i
	} else {
		m.Again()
	}
}

// content is what a slot holds, by file, or nil.
func (m *model) content(slot string) map[string][]byte {
	list, err := os.ReadDir(m.Voyages(slot))
	if err != nil {
		return nil
	}
	files := map[string][]byte{}
	for _, e := range list {
		files[e.Name()], err = os.ReadFile(m.Voyages(slot, e.Name()))
		require.NoError(m.t, err)
	}
	return files
}

func (m *model) put(slot string, files map[string][]byte) {
	m.remember(slot)
	require.NoError(m.t, os.RemoveAll(m.Voyages(slot)))
	require.NoError(m.t, os.MkdirAll(m.Voyages(slot), 0o755))
	for name, data := range files {
		require.NoError(m.t, os.WriteFile(m.Voyages(slot, name), data, 0o644))
	}
	delete(m.gone, slot)
}

func (m *model) remember(slot string) {
	if files := m.content(slot); files != nil {
		m.past[slot] = append(m.past[slot], files)
	}
}

// digestOf is the digest that a save of these files has, by its definition.
func digestOf(files map[string][]byte) tree.Digest {
	var list []tree.Named
	for name, data := range files {
		list = append(list, tree.Named{Path: name, Digest: tree.Digest(blake3.Sum256(data))})
	}
	return tree.ListDigest(list)
}

// write is an evening: the game writes a slot anew, or a new one.
func (m *model) write() {
	slot := m.slot()
	files := m.content(slot)
	if files == nil || len(files["voyage.json.gz"]) == 0 {
		voyage, err := os.ReadFile(m.Path("template", "voyage.json.gz"))
		require.NoError(m.t, err)
		files = map[string][]byte{"voyage.json.gz": voyage}
	}
	files["chart.bin"] = slices.Repeat(fmt.Appendf(nil, "turn %d %d\n", m.turn, m.r.Int()), 100)
	m.put(slot, files)
}

// badNight is a night on which the game empties a slot.
func (m *model) badNight() {
	slot := m.slot()
	if files := m.content(slot); files != nil {
		for name := range files {
			files[name] = nil
		}
		m.put(slot, files)
	}
}

func (m *model) deleteSlot() {
	slot := m.slot()
	if m.content(slot) == nil {
		return
	}
	m.remember(slot)
	require.NoError(m.t, os.RemoveAll(m.Voyages(slot)))
	if _, seen := m.owner[slot]; seen {
		m.gone[slot], m.lost[slot] = true, true
	}
}

// rotate copies one slot over the next, as a game with autosaves does.
func (m *model) rotate() {
	from := m.r.IntN(5)
	if files := m.content(fmt.Sprintf("slot_%02d", from)); files != nil {
		m.put(fmt.Sprintf("slot_%02d", from+1), files)
	}
}

// cloud puts an old state of a slot back, and the first home is to know it again if a snapshot of the slot's line has it.
func (m *model) cloud() {
	slot := m.slot()
	if len(m.past[slot]) == 0 || m.content(slot) == nil {
		return
	}
	m.home(0)
	before := m.See("tidewrack@main")
	i := slices.IndexFunc(before.Saves, func(s *facts.Save) bool { return s.Name == slot })
	if i < 0 {
		return
	}
	was := before.Saves[i]
	old := m.past[slot][m.r.IntN(len(m.past[slot]))]
	if len(old["chart.bin"]) == 0 || digestOf(old) == was.Digest || was.Again != "" || was.Broken() != "" {
		return
	}
	m.put(slot, old)
	m.home(0)
	st := m.See("tidewrack@main")
	now := st.Saves[slices.IndexFunc(st.Saves, func(s *facts.Save) bool { return s.Name == slot })]
	require.Equal(m.t, was.Line, now.Line, "%v: what comes to a place belongs to its line", m.done)
	require.Equal(m.t, digestOf(old), now.Digest)
	known := slices.ContainsFunc(m.kept[0], func(k keptState) bool {
		return k.slot == slot && k.digest == now.Digest && m.lineOf(k.address) == now.Line && m.there(k.address)
	})
	if !known || now.Shrank != nil {
		return
	}
	require.NotEmpty(m.t, now.Again, "%v: %s is a kept state of %s again", m.done, slot, now.Line)
	require.Equal(m.t, now.Digest, m.byID[0][m.ids[0][now.Again]][slot], "%v: and the snapshot that is named has it", m.done)
}

func (m *model) lineOf(address string) string {
	line, _, _ := cutLast(address, ".")
	return line
}

func cutLast(text, sep string) (before, after string, ok bool) {
	for i := len(text) - len(sep); i >= 0; i-- {
		if text[i:i+len(sep)] == sep {
			return text[:i], text[i+len(sep):], true
		}
	}
	return text, "", false
}

func (m *model) there(address string) bool {
	_, err := m.Snapshot(address)
	return err == nil
}

func (m *model) install() string {
	if m.at == 1 {
		return "tidewrack@main"
	}
	return []string{"tidewrack@main", "tidewrack@second"}[m.r.IntN(2)]
}

// refused reports whether a command was refused; then it has changed nothing.
func (m *model) refused(before map[string]string, err error) bool {
	if err == nil {
		return false
	}
	require.True(m.t, errors.As(err, new(*problem.Error)), "%v: %v", m.done, err)
	require.Equal(m.t, before, seen(m.t, m.Voyages()), "%v: refused, and changed: %v", m.done, err)
	return true
}

func (m *model) keep() {
	m.home(m.r.IntN(2))
	before := seen(m.t, m.Voyages())
	in := m.install()
	kept, err := keep.Keep(m.t.Context(), m.Home, m.In(in), keep.Request{})
	if m.refused(before, err) {
		return
	}
	for _, k := range append([]*keep.Kept{kept}, kept.Also...) {
		for _, s := range k.Snapshot.Saves {
			require.Equal(m.t, digestOf(m.content(s.Name)), s.Digest, "%v: %s has %s as it is", m.done, k.Snapshot.Address(), s.Name)
		}
	}
	if m.at != 0 {
		return
	}
	m.home(0)
	st := m.See(in)
	require.Empty(m.t, st.Others, "%v: a keep leaves no changed save behind", m.done)
	for slot := range m.gone {
		if !slices.ContainsFunc(st.Gone, func(g facts.Gone) bool { return g.Name == slot }) {
			delete(m.gone, slot) // the player has been told, and has kept it so
		}
	}
}

// change plans something in a home and carries it out.
func (m *model) change(planned func(st *facts.State) (*plan.Plan, error)) {
	m.home(m.r.IntN(4) / 3) // mostly the first
	before := seen(m.t, m.Voyages())
	st := m.See(m.install())
	p, err := planned(st)
	if m.refused(before, err) || p.Empty() {
		return
	}
	if _, err = keep.Before(m.t.Context(), m.Home, p, keep.WrittenList); m.refused(before, err) {
		return
	}
	m.apply(before, func() error { _, err := p.Apply(m.t.Context()); return err })
}

// apply carries out a change of Ostrov's: what it takes away in the first home is not gone to it.
func (m *model) apply(before map[string]string, do func() error) {
	there := map[string]bool{}
	for i := range 10 {
		slot := fmt.Sprintf("slot_%02d", i)
		there[slot] = m.content(slot) != nil
		m.remember(slot)
	}
	if m.refused(before, do()) {
		return
	}
	for slot, was := range there {
		now := m.content(slot) != nil
		switch {
		case now:
			delete(m.gone, slot)
		case was && m.at == 1: // to the first home the other one is another program
			if _, seen := m.owner[slot]; seen {
				m.gone[slot], m.lost[slot] = true, true
			}
		}
	}
}

func (m *model) snapshot() *archive.Snapshot {
	if len(m.kept[m.at]) == 0 {
		return nil
	}
	snap, err := m.Snapshot(m.kept[m.at][m.r.IntN(len(m.kept[m.at]))].address)
	if err != nil {
		return nil
	}
	return snap
}

func (m *model) restore() {
	m.change(func(st *facts.State) (*plan.Plan, error) { return someRestore(m.World, m.r, st, m.snapshot()) })
}

func (m *model) swap() {
	m.change(func(st *facts.State) (*plan.Plan, error) { return someSwap(m.World, m.r, st) })
}

func (m *model) fresh() {
	m.change(func(st *facts.State) (*plan.Plan, error) {
		if len(st.Lines) > 2 {
			return nil, problem.Usage(nil, "enough lines")
		}
		return keep.Fresh(m.t.Context(), m.Home, st, fmt.Sprint("Run ", m.turn, " ", m.at), keep.SwapRequest{})
	})
}

// turns is playing the other install: the saves of its neighbour are put away, and its own brought.
func (m *model) turns() {
	m.home(0)
	before := seen(m.t, m.Voyages())
	ins := []string{"tidewrack@main", "tidewrack@second"}
	i := m.r.IntN(2)
	st, there := m.See(ins[i]), m.See(ins[1-i])
	p, err := keep.Turn(m.t.Context(), m.Home, st, there)
	if m.refused(before, err) || !p.Moves() {
		return
	}
	if _, err := keep.Before(m.t.Context(), m.Home, p, keep.WrittenList); m.refused(before, err) {
		return
	}
	m.apply(before, func() error { _, err := p.Apply(m.t.Context()); return err })
}

func (m *model) handle() {
	m.change(func(st *facts.State) (*plan.Plan, error) {
		if len(st.Saves) == 0 {
			return nil, problem.Usage(nil, "no save")
		}
		s, to := st.Saves[m.r.IntN(len(st.Saves))], fmt.Sprint(1+m.r.IntN(6))
		if m.r.IntN(2) == 0 {
			return handle.Rename(m.t.Context(), m.Home, st, s, to)
		}
		return handle.Remove(m.t.Context(), m.Home, st, s)
	})
}

func (m *model) undo(again bool) {
	m.home(m.r.IntN(4) / 3)
	before := seen(m.t, m.Voyages())
	m.See(m.install())
	back := plan.Undo
	if again {
		back = plan.Redo
	}
	u, err := back(m.t.Context(), m.Home, nil)
	if m.refused(before, err) {
		return
	}
	if _, err := keep.Before(m.t.Context(), m.Home, u.Plan, keep.PresentList); m.refused(before, err) {
		return
	}
	m.last = fmt.Sprint(u.Title, " in home ", m.at)
	m.apply(before, func() error { _, err := u.Apply(m.t.Context()); return err })
}

// check looks with the first home through both its installs, and asks of everything whether it is called what it was called before.
func (m *model) check(wrote, back bool) {
	m.home(0)
	main, second := m.See("tidewrack@main"), m.See("tidewrack@second")
	owner := map[string]string{}
	for _, s := range main.Saves {
		owner[s.Name] = s.Line
		require.Equal(m.t, digestOf(m.content(s.Name)), s.Digest, m.done)
	}
	theirs := map[string]string{}
	for _, s := range second.Saves {
		theirs[s.Name] = s.Line
	}
	require.Equal(m.t, owner, theirs, "%v: a place is one place, whoever looks", m.done)
	if wrote { // by the game or the cloud: a line owns places, not files
		for slot, was := range m.owner {
			if now, there := owner[slot]; there && was != "" {
				require.Equal(m.t, was, now, "%v: %s changed hands", m.done, slot)
			}
		}
	}
	for _, g := range main.Gone {
		if back && m.lost[g.Name] { // taking a change back, or making it again, goes back to a state in which it was lost
			m.gone[g.Name] = true
		}
		require.True(m.t, m.gone[g.Name], "%v (%s): %s is said to be gone, and nobody took it but Ostrov itself", m.done, m.last, g.Name)
	}
	for slot := range m.gone {
		said := slices.ContainsFunc(main.Gone, func(g facts.Gone) bool { return g.Name == slot })
		if !wrote && !said { // its line was put away without it
			delete(m.gone, slot)
			continue
		}
		require.True(m.t, said, "%v: %s is gone, and nobody says so", m.done, slot)
	}
	m.owner = owner
	m.checkKept()
}

// checkKept sees that each address means what it has meant ever since, and that what was kept is to be had.
func (m *model) checkKept() {
	for i := range m.homes {
		m.home(i)
		a, err := m.Archive()
		if err != nil {
			continue
		}
		names, err := a.Playthroughs()
		require.NoError(m.t, err)
		now := map[string]string{}
		for _, name := range names {
			all, broken, err := a.Snapshots(name)
			require.NoError(m.t, err)
			require.Empty(m.t, broken)
			for _, s := range all {
				now[s.Address()] = s.ID
				if m.byID[i][s.ID] != nil {
					continue
				}
				m.byID[i][s.ID] = map[string]tree.Digest{}
				for _, k := range s.Saves {
					m.byID[i][s.ID][k.Name] = k.Digest
					m.kept[i] = append(m.kept[i], keptState{s.Address(), k.Name, k.Digest})
				}
			}
		}
		for address, id := range m.ids[i] {
			require.Equal(m.t, id, now[address], "%v: %s means another snapshot than before", m.done, address)
		}
		maps.Copy(m.ids[i], now)
		if len(m.kept[i]) == 0 || m.r.IntN(4) > 0 {
			continue
		}
		k := m.kept[i][m.r.IntN(len(m.kept[i]))]
		snap, err := m.Snapshot(k.address)
		require.NoError(m.t, err)
		out := filepath.Join(m.t.TempDir(), "out")
		_, err = keep.RestoreTo(m.t.Context(), m.Home, snap, out, keep.RestoreRequest{Slot: k.slot})
		require.NoError(m.t, err)
		files := map[string][]byte{}
		found, err := filepath.Glob(filepath.Join(out, "*", "*", "*", k.slot, "*"))
		require.NoError(m.t, err)
		for _, f := range found {
			files[filepath.Base(f)], err = os.ReadFile(f)
			require.NoError(m.t, err)
		}
		require.Equal(m.t, k.digest, digestOf(files), "%v: %s of %s is not what was kept", m.done, k.slot, k.address)
	}
}

// TestPlacesStatesAndLines has both players, the game and the cloud do anything in no order. Every place, line, number and state is always called
// what it is.
func TestPlacesStatesAndLines(t *testing.T) {
	steps := []struct {
		name   string
		often  int
		wrote  bool
		action func(*model)
	}{
		{"write", 6, true, (*model).write}, {"bad night", 1, true, (*model).badNight}, {"delete", 1, true, (*model).deleteSlot}, {"rotate", 1, true, (*model).rotate}, {"cloud", 4, true, (*model).cloud},
		{"keep", 4, true, (*model).keep}, {"restore", 3, false, (*model).restore}, {"swap", 2, false, (*model).swap}, {"fresh", 1, false, (*model).fresh}, {"turn", 2, false, (*model).turns},
		{"handle", 2, false, (*model).handle}, {"undo", 2, false, func(m *model) { m.undo(false) }}, {"redo", 1, false, func(m *model) { m.undo(true) }},
	}
	var dice []int
	for i, s := range steps {
		dice = append(dice, slices.Repeat([]int{i}, s.often)...)
	}
	length := longtest.Of(25, 100)
	first, stride := longtest.Share(4, 3)
	if stride == 1 { // all of it: 2,000 steps
		length = 250
	}
	for seed := first - 1; seed < 8; seed += stride {
		t.Run(fmt.Sprint(seed), func(t *testing.T) {
			t.Parallel()
			m := &model{World: coretest.New(t), t: t, r: rand.New(rand.NewPCG(uint64(seed), 9)), owner: map[string]string{}, gone: map[string]bool{}, lost: map[string]bool{}, past: map[string][]map[string][]byte{}}
			now := time.Now()
			m.Now = func() time.Time { now = now.Add(time.Second); return now }
			for i := range 2 {
				m.ids[i], m.byID[i] = map[string]string{}, map[string]map[string]tree.Digest{}
			}
			m.homes = [2]string{m.Dir, m.Path("other-home")}
			require.NoError(t, os.CopyFS(m.Path("template"), os.DirFS(m.Voyages("slot_00"))))
			m.AddLinked()
			m.home(1)
			found, err := facts.FindInstall(t.Context(), m.Home, facts.AddRequest{Game: "tidewrack", At: m.Path("games", "Tidewrack"), Prefix: m.Path("prefix")})
			require.NoError(t, err)
			require.NoError(t, m.Register(found.Install))
			m.check(false, false)
			for m.turn = range length {
				step := steps[dice[m.r.IntN(len(dice))]]
				m.done = append(m.done, step.name)
				step.action(m)
				m.check(step.wrote, strings.HasSuffix(step.name, "do"))
			}
			t.Logf("%d snapshots", len(m.ids[0])+len(m.ids[1]))
		})
	}
}
