package tui

import (
	"path/filepath"
	"time"

	"github.com/fsnotify/fsnotify"

	"kettlehole/internal/mapping"
)

// savedMsg says that a file of the open lab was saved.
type savedMsg struct{ err error }

// settle is how long files must be left alone before they are read: editors
// save in several steps.
const settle = 40 * time.Millisecond

// watcher notices when the lab file, or a file that it names, is saved. It
// watches folders, since editors put a new file in the place of the old one.
// Its methods are called by the app alone.
type watcher struct {
	app     *App
	notify  *fsnotify.Watcher // nil where the workstation allows no more of them
	folders map[string]bool
	err     error
}

func newWatcher(a *App) *watcher {
	w := &watcher{app: a, folders: map[string]bool{}}
	w.notify, w.err = fsnotify.NewWatcher()
	return w
}

// begin sends on what is noticed until the app ends.
func (w *watcher) begin() {
	if w.notify == nil {
		w.app.say(true, "a saved file is not noticed here (%v); close the editor, or open the lab again, to read it", w.err)
		return
	}
	w.app.feed.busy.Go(func() {
		defer w.notify.Close()
		var settled <-chan time.Time
		for {
			select {
			case <-w.app.ctx.Done():
				return
			case event, open := <-w.notify.Events:
				if !open {
					return
				}
				if event.Has(fsnotify.Write) || event.Has(fsnotify.Create) || event.Has(fsnotify.Rename) || event.Has(fsnotify.Remove) {
					settled = time.After(settle)
				}
			case err := <-w.notify.Errors:
				w.app.send(savedMsg{err})
			case <-settled:
				settled = nil
				w.app.send(savedMsg{})
			}
		}
	})
}

// aim watches the folders of what was mapped, and no others.
func (w *watcher) aim(m mapping.Result) {
	if w.notify == nil || m.File == "" {
		return
	}
	base := filepath.Dir(m.File)
	wanted := map[string]bool{base: true}
	if m.Lab != nil {
		for _, s := range m.Lab.Steps {
			if s.Source != "" {
				wanted[filepath.Dir(filepath.Join(base, s.Source))] = true
			}
			for _, f := range s.Put {
				wanted[filepath.Dir(filepath.Join(base, f.Source))] = true
			}
		}
	} else {
		for folder := range w.folders { // a file that is wrong for the moment names the same scripts as before
			wanted[folder] = true
		}
	}
	for folder := range w.folders {
		if !wanted[folder] {
			_ = w.notify.Remove(folder) // it may be gone
			delete(w.folders, folder)
		}
	}
	for folder := range wanted {
		if !w.folders[folder] && w.notify.Add(folder) == nil {
			w.folders[folder] = true
		}
	}
}
