// asked is htmx.ajax whose promise stays open where the answer never comes: one that took its place, or a page that
// was left, ends a request, and that is no error.
export function asked(verb, path, how) {
  return new Promise((done) => { window.htmx.ajax(verb, path, how).then(done, () => {}); });
}
