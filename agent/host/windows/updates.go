//go:build windows

package windows

import (
	"context"
	"errors"
	"fmt"
	"io"
	"runtime"
	"slices"
	"time"

	"github.com/go-ole/go-ole"
	"github.com/go-ole/go-ole/oleutil"

	"moorwatch.example/core/update"
	"moorwatch.example/core/work"
)

// updates are those of the Windows Update Agent, by its COM interface.
type updates struct{}

// agent calls do with a session of the Windows Update Agent.
func agent(ctx context.Context, do func(session *ole.IDispatch) error) error {
	return onCOM(ctx, "Microsoft.Update.Session", do)
}

// onCOM calls do with an object of COM, on a thread of its own. A call of it cannot be ended: where ctx ends, its
// end is not awaited.
func onCOM(ctx context.Context, name string, do func(*ole.IDispatch) error) error {
	done := make(chan error, 1)
	go func() {
		runtime.LockOSThread()
		defer runtime.UnlockOSThread()
		if err := ole.CoInitializeEx(0, ole.COINIT_MULTITHREADED); err != nil {
			done <- fmt.Errorf("COM cannot be used: %w", err)
			return
		}
		defer ole.CoUninitialize()
		object, err := create(name)
		if err != nil {
			done <- err
			return
		}
		defer object.Release()
		done <- do(object)
	}()
	select {
	case err := <-done:
		return err
	case <-ctx.Done():
		return context.Cause(ctx)
	}
}

func create(name string) (*ole.IDispatch, error) {
	unknown, err := oleutil.CreateObject(name)
	if err != nil {
		return nil, fmt.Errorf("%s is not there: %w", name, err)
	}
	defer unknown.Release()
	return unknown.QueryInterface(ole.IID_IDispatch)
}

// object is the object that a property or method gives.
func object(v *ole.VARIANT, err error) (*ole.IDispatch, error) {
	if err != nil {
		return nil, err
	}
	d := v.ToIDispatch()
	if d == nil {
		return nil, errors.New("the Windows Update Agent gives nothing")
	}
	return d, nil
}

func value[T any](of *ole.IDispatch, name string) (out T) {
	v, err := oleutil.GetProperty(of, name)
	if err != nil {
		return out
	}
	defer v.Clear()
	out, _ = v.Value().(T)
	return out
}

// texts are the texts of a collection, or for a field's name those of its objects.
func texts(of *ole.IDispatch, name, field string) (out []string) {
	all, err := object(oleutil.GetProperty(of, name))
	if err != nil {
		return nil
	}
	defer all.Release()
	for i := range value[int32](all, "Count") {
		v, err := oleutil.GetProperty(all, "Item", i)
		if err != nil {
			continue
		}
		if field == "" {
			if text, ok := v.Value().(string); ok {
				out = append(out, text)
			}
		} else if d := v.ToIDispatch(); d != nil {
			out = append(out, value[string](d, field))
		}
		v.Clear()
	}
	return out
}

// search calls each with the updates that are not installed. fresh asks the server.
func search(session *ole.IDispatch, fresh bool, each func(u *ole.IDispatch, r Record) error) error {
	searcher, err := object(oleutil.CallMethod(session, "CreateUpdateSearcher"))
	if err != nil {
		return err
	}
	defer searcher.Release()
	if _, err := oleutil.PutProperty(searcher, "Online", fresh); err != nil {
		return err
	}
	found, err := object(oleutil.CallMethod(searcher, "Search", "IsInstalled=0"))
	if err != nil {
		return fmt.Errorf("Windows cannot search for updates: %w", err)
	}
	defer found.Release()
	list, err := object(oleutil.GetProperty(found, "Updates"))
	if err != nil {
		return err
	}
	defer list.Release()
	for i := range value[int32](list, "Count") {
		u, err := object(oleutil.GetProperty(list, "Item", i))
		if err != nil {
			return err
		}
		err = each(u, record(u))
		u.Release()
		if err != nil {
			return err
		}
	}
	return nil
}

func record(u *ole.IDispatch) Record {
	r := Record{Title: value[string](u, "Title"), Severity: value[string](u, "MsrcSeverity"),
		Changed: value[time.Time](u, "LastDeploymentChangeTime"), Hidden: value[bool](u, "IsHidden"),
		Categories: texts(u, "Categories", "Name"), Articles: texts(u, "KBArticleIDs", ""), Weaknesses: texts(u, "CveIDs", "")}
	if v, err := oleutil.GetProperty(u, "MaxDownloadSize"); err == nil { // a decimal, which comes as a number or a text
		switch n := v.Value().(type) {
		case int64:
			r.Size = n
		case float64:
			r.Size = int64(n)
		case string:
			fmt.Sscan(n, &r.Size)
		}
		v.Clear()
	}
	if identity, err := object(oleutil.GetProperty(u, "Identity")); err == nil {
		r.ID, r.Revision = value[string](identity, "UpdateID"), value[int32](identity, "RevisionNumber")
		identity.Release()
	}
	if behaviour, err := object(oleutil.GetProperty(u, "InstallationBehavior")); err == nil {
		r.Restart = value[int32](behaviour, "RebootBehavior")
		behaviour.Release()
	}
	return r
}

// Missing implements host.Updates.
func (updates) Missing(ctx context.Context, fresh bool) (all []update.Update, err error) {
	all = []update.Update{}
	err = agent(ctx, func(session *ole.IDispatch) error {
		return search(session, fresh, func(_ *ole.IDispatch, r Record) error {
			all = append(all, r.Offer())
			return nil
		})
	})
	if err != nil {
		return nil, err
	}
	return all, nil
}

// change has the updates of some versions downloaded, and installed where install is set.
func (updates) change(ctx context.Context, versions []work.Version, install bool, log io.Writer) error {
	return agent(ctx, func(session *ole.IDispatch) error {
		chosen, err := create("Microsoft.Update.UpdateColl")
		if err != nil {
			return err
		}
		defer chosen.Release()
		n := 0
		err = search(session, false, func(u *ole.IDispatch, r Record) error {
			o := r.Offer()
			if !slices.Contains(versions, work.Version{Source: source, Name: o.Name, Version: o.To}) || o.Blocked != "" {
				return nil
			}
			fmt.Fprintf(log, "%s: %s\n", o.Name, o.Title)
			n++
			if !value[bool](u, "EulaAccepted") {
				if _, err := oleutil.CallMethod(u, "AcceptEula"); err != nil {
					return err
				}
			}
			_, err := oleutil.CallMethod(chosen, "Add", u)
			return err
		})
		if err != nil || n == 0 {
			if n == 0 && err == nil {
				fmt.Fprintln(log, "Nothing of these is missing here.")
			}
			return err
		}
		for _, step := range []struct{ maker, verb string }{{"CreateUpdateDownloader", "Download"}, {"CreateUpdateInstaller", "Install"}} {
			if step.verb == "Install" && !install {
				break
			}
			worker, err := object(oleutil.CallMethod(session, step.maker))
			if err != nil {
				return err
			}
			_, err = oleutil.PutProperty(worker, "Updates", chosen)
			var result *ole.IDispatch
			if err == nil {
				result, err = object(oleutil.CallMethod(worker, step.verb))
			}
			worker.Release()
			if err != nil {
				return fmt.Errorf("%s: %w", step.verb, err)
			}
			why := Outcome(value[int32](result, "ResultCode"))
			result.Release()
			if why != "" {
				return fmt.Errorf("%s: %s", step.verb, why)
			}
		}
		return nil
	})
}

// Fetch implements host.Updates.
func (u updates) Fetch(ctx context.Context, all []work.Version, log io.Writer) error {
	return u.change(ctx, all, false, log)
}

// Install implements host.Updates.
func (u updates) Install(ctx context.Context, all []work.Version, log io.Writer) error {
	return u.change(ctx, all, true, log)
}

// Back implements host.Updates.
func (updates) Back(context.Context, []work.Version, io.Writer) error {
	return errors.New("what Windows Update installed is not taken back by this agent yet")
}

// Refresh implements host.Updates. What an update replaces, Windows restarts itself.
func (updates) Refresh(context.Context, io.Writer) error { return nil }

// Restart implements host.Updates.
func (updates) Restart(ctx context.Context) (restart bool, err error) {
	err = agent(ctx, func(*ole.IDispatch) error {
		system, err := create("Microsoft.Update.SystemInfo")
		if err == nil {
			restart = value[bool](system, "RebootRequired")
			system.Release()
		}
		return err
	})
	return restart, err
}
