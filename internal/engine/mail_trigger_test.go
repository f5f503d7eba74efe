package engine

import (
	"context"
	"os"
	"path/filepath"
	"testing"
	"time"

	"github.com/emersion/go-imap"
	"github.com/stretchr/testify/require"

	"hollowreed/internal/connector"
	"hollowreed/internal/standin"
	"hollowreed/internal/standin/postroom"
	"hollowreed/internal/store"
	"hollowreed/internal/testkit"
)

const letterFlow = `flow: Letters
trigger: {kind: mail, connection: desk-mailbox, subject: booking, every: 1}
reference: extract(letter.subject, "B-[0-9]+")
steps:
  - {step: each, id: each, of: letter.attachments, as: paper, steps: [{step: note, id: n, text: 'paper.name + ": " + text(count(lines(paper.text)))'}]}
  - {step: call, id: put, connection: office-folder, operation: put, with: {name: 'run.reference + ".txt"', text: letter.text}, as: kept}
`

// mailed is a world with a mailbox whose letters are kept in a folder.
func mailed(t *testing.T, change map[string]string) (w *world, desk *postroom.Desk, folder string) {
	t.Helper()
	w = newWorld(t)
	desk, folder = postroom.New().Desk, t.TempDir()
	port, authority, err := desk.Serve(t.Context())
	require.NoError(t, err)
	values := postroom.DeskSettings(port, authority)
	for name, v := range change {
		values[name] = v
	}
	w.settings["desk-mailbox"] = connector.Settings{Kind: "mailbox", Values: values}
	w.settings["office-folder"] = connector.Settings{Kind: "file", Values: map[string]string{"folder": folder, "after": "leave"}}
	return w, desk, folder
}

// lettersDone waits until so many runs of the letters have ended well, and gives them, the newest first.
func (w *world) lettersDone(n int) []store.Run {
	w.t.Helper()
	return testkit.Until(w.t, "the letters' runs", func() ([]store.Run, bool) {
		runs, err := store.Runs(w.t.Context(), w.db, store.RunFilter{Scope: testkit.Skerry, Flow: "letters", State: store.Done, Most: 100})
		require.NoError(w.t, err)
		return runs, len(runs) >= n
	})
}

// TestALetterStartsARunOnce: each letter that fits is one run, whose message it is; it is read there, others are left
// alone, and two workers and a letter that comes back as unread make no second run.
func TestALetterStartsARunOnce(t *testing.T) {
	w, desk, folder := mailed(t, nil)
	e := w.start(Options{})
	other := w.start(Options{})
	w.add("letters", map[string]string{"flows/letters.yaml": letterFlow})
	desk.Deliver("Subject: lunch\r\n\r\nat noon\r\n")
	for n := range 3 {
		desk.Deliver(postroom.Wrote(n))
	}
	runs := w.lettersDone(3)
	require.Len(t, runs, 3)
	require.Equal(t, "B-20419", runs[0].Reference)
	require.Equal(t, "new mail", runs[0].StartedBy)
	require.Contains(t, string(runs[0].Input), `"from":"Norholm Salt <norholm@post.example>"`)
	text, err := os.ReadFile(filepath.Join(folder, "B-20419.txt"))
	require.NoError(t, err)
	require.Equal(t, "The plate on the booking is wrong, the right one is attached.", string(text))
	testkit.Until(t, "the letters to be read", func() (int, bool) {
		_, read := desk.In(imap.InboxName)
		n := 0
		for _, r := range read {
			if r {
				n++
			}
		}
		return n, n == 3
	})

	e.Stop()
	other.Stop()
	desk.Unread() // somebody marks all as unread
	desk.Deliver(postroom.Wrote(3))
	w.start(Options{})
	runs = w.lettersDone(4)
	require.Len(t, runs, 4, "a letter that comes back is the same letter")
	require.Equal(t, "B-20420", runs[0].Reference)
}

// TestATriggerSaysWhyNoMailComes: the mailbox is away, or refuses; when it is there again, nothing was lost.
func TestATriggerSaysWhyNoMailComes(t *testing.T) {
	w, desk, _ := mailed(t, map[string]string{"after": "move", "done": "Taken", "timeout": "2"})
	w.start(Options{})
	desk.Deliver(postroom.Wrote(0))
	desk.Moods.Set(standin.Expire, true)
	w.add("letters", map[string]string{"flows/letters.yaml": letterFlow})
	why := func(want string) {
		testkit.Until(t, want, func() (string, bool) {
			kept, err := store.TriggerOf(context.Background(), w.db, testkit.Skerry, "letters")
			require.NoError(t, err)
			return kept.Fault, (want == "") == (kept.Fault == "") && kept.LookedAt != nil
		})
	}
	why("does not take the sign-in")
	desk.Moods.Reset()
	require.Equal(t, "B-20417", w.lettersDone(1)[0].Reference)
	why("")
	texts, _ := desk.In("Taken")
	require.Len(t, texts, 1)
	desk.Moods.TakeDown(2 * time.Second)
	why("away")
	desk.Deliver(postroom.Wrote(1))
	require.Equal(t, "B-20418", w.lettersDone(2)[0].Reference)
	inbox, _ := desk.In(imap.InboxName)
	require.Empty(t, inbox)
}
