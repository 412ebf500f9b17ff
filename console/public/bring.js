// What whoever has a link brings by it: one file after the other, in pieces, so that a line that breaks costs one of them.
(function () {
  const part = (id) => document.getElementById(id);
  const PIECE = 8 << 20;
  const TRIES = 5;
  const PAUSE = 2000;
  const HEADERS = { "Tus-Resumable": "1.0.0" };
  let at;
  let enter;
  let waiting = [];
  let sent = 0;
  let all = 0;
  let refused = [];
  let busy = false;

  // What is said of a file in a header: letters of all languages, as base64.
  function encoded(text) {
    return btoa(unescape(encodeURIComponent(text)));
  }

  function ask(method, path, headers, body, then, far) {
    const request = new XMLHttpRequest();
    request.open(method, path);
    Object.keys(HEADERS).forEach((name) => request.setRequestHeader(name, HEADERS[name]));
    Object.keys(headers).forEach((name) => request.setRequestHeader(name, headers[name]));
    if (far) request.upload.onprogress = (e) => far(e.loaded);
    request.onload = () => then(request.status, request);
    request.onerror = () => then(0, request);
    request.send(body);
  }

  function detail(request) {
    if (request.status === 401) return "The link has ended, or was withdrawn.";
    try {
      return JSON.parse(request.responseText).detail || "It could not be taken.";
    } catch (_) {
      return "It could not be taken.";
    }
  }

  // A visit that is over is begun again, once for each file.
  function anew(job, go, then) {
    if (job.entered) return then(false, "The link has ended, or was withdrawn.", true);
    job.entered = true;
    enter(undefined, go, () => then(false, "The link does not open any more.", true));
  }

  // Whether it is worth another try: the line broke, or the server is busy.
  const passes = (status) => status === 0 || status === 423 || status >= 500;

  function begin(file, then) {
    const said = [`filename ${encoded(file.name)}`, `mtime ${encoded(String(file.lastModified))}`];
    if (part("by").value.trim()) said.push(`from ${encoded(part("by").value.trim())}`);
    ask("POST", at, { "Upload-Length": String(file.size), "Upload-Metadata": said.join(",") }, undefined, (status, request) => {
      then(status, status === 201 ? request.getResponseHeader("Location") : detail(request));
    });
  }

  // Sends one file from where it stands. `tries`: so often it may break in between.
  function send(job, tries, then) {
    const again = (why) => {
      if (tries > 0) setTimeout(() => send(job, tries - 1, then), PAUSE);
      else then(false, why, true);
    };
    if (!job.path) {
      return begin(job.file, (status, said) => {
        if (status === 201) {
          job.path = said;
          return send(job, tries, then);
        }
        if (status === 401) return anew(job, () => send(job, tries, then), then);
        if (passes(status)) return again("The server does not answer.");
        return then(false, said, status === 429 || status === 507);
      });
    }
    ask("HEAD", job.path, {}, undefined, (status, request) => {
      if (status === 401) return anew(job, () => send(job, tries, then), then);
      if (passes(status)) return again("The server does not answer.");
      if (status !== 200) {
        // It ended here: once more from its beginning.
        job.path = undefined;
        return again("The link has ended, or was withdrawn.");
      }
      const stands = Number(request.getResponseHeader("Upload-Offset"));
      if (stands >= job.file.size && job.whole) return then(true);
      const piece = job.file.slice(stands, stands + PIECE);
      job.whole = stands + piece.size >= job.file.size;
      const headers = { "Upload-Offset": String(stands), "Content-Type": "application/offset+octet-stream" };
      ask(
        "PATCH",
        job.path,
        headers,
        piece,
        (said, answer) => {
          if (said === 204) return job.whole ? then(true) : send(job, TRIES, then);
          job.whole = false;
          if (passes(said) || said === 409) return again("The line broke.");
          if (said === 404 || said === 410) job.path = undefined;
          return then(false, detail(answer), said === 507 || said === 429);
        },
        (loaded) => tell(stands + loaded),
      );
    });
  }

  const many = (n) => (n === 1 ? "1 file" : `${n} files`);

  function tell(now) {
    const far = part("far");
    const size = waiting.reduce((sum, job) => sum + job.file.size, 0);
    far.hidden = !busy;
    far.value = all === 0 ? 0 : Math.min(1, (all - size + (now || 0)) / all);
    const said = [];
    if (busy) said.push(`Sending: ${sent} of ${many(sent + waiting.length)} sent. Keep this page open.`);
    else if (sent > 0 && waiting.length === 0) said.push(`${many(sent)} sent. Thank you! You can close this page.`);
    else if (sent > 0) said.push(`${many(sent)} sent.`);
    refused.forEach((why) => said.push(why));
    part("sent").textContent = said.join(" ");
    part("rest").hidden = busy || waiting.length === 0;
  }

  function go() {
    const job = waiting[0];
    busy = job !== undefined;
    tell();
    if (!job) return;
    send(job, TRIES, (done, why, stop) => {
      if (done) sent += 1;
      else refused.push(`${job.file.name} was not sent: ${why}`);
      if (!stop) waiting.shift();
      if (stop) {
        busy = false;
        return tell();
      }
      go();
    });
  }

  function add(files) {
    refused = [];
    [].forEach.call(files, (file) => {
      waiting.push({ file: file });
      all += file.size;
    });
    if (!busy) go();
  }

  // A page that goes away sends nothing more.
  window.addEventListener("beforeunload", (e) => {
    if (!busy) return;
    e.preventDefault();
    e.returnValue = "";
  });
  part("bring").onsubmit = (e) => e.preventDefault();
  part("files").onchange = () => {
    add(part("files").files);
    part("files").value = "";
  };
  part("rest").onclick = () => {
    refused = [];
    go();
  };

  window.bring = (link, from, open) => {
    at = `/api/outside/${link}/uploads`;
    enter = open;
    part("waits").textContent = `${from} looks at them first. Nobody else who has this link sees them before that.`;
    part("bring").hidden = false;
  };
})();
