// The page of a link for people outside. It stands by itself: nothing of the console is loaded, and an old phone reads it.
// What opens the link is behind the "#" of the address, which a browser sends to nobody; it goes to the server in a body, once for each visit.
(function () {
  const part = (id) => document.getElementById(id);
  const secret = location.hash.slice(1);
  const LONG = { day: "numeric", month: "long", year: "numeric" };
  const KEEP = { previews: "Download", copies: "Download", originals: "Download the original" };
  const KEEP_ALL = { previews: "Download all", copies: "Download all", originals: "Download all originals" };
  let link;
  let handsOut = "previews";
  let pictures = [];
  let next;
  let asking = false;
  let at = -1;
  let last;

  // Asks the server. What it says is handed on with its status; 0: it does not answer.
  function ask(method, path, body, then) {
    const request = new XMLHttpRequest();
    request.open(method, path);
    if (body) request.setRequestHeader("content-type", "application/json");
    request.onload = () => {
      let said = {};
      try {
        said = JSON.parse(request.responseText);
      } catch (_) {
        // What is no answer of ours says nothing.
      }
      then(request.status, said);
    };
    request.onerror = () => then(0, {});
    request.send(body ? JSON.stringify(body) : undefined);
  }

  const say = (text) => {
    part("said").textContent = text;
  };
  const reason = (status, said) => (status === 0 ? "The server does not answer just now. Try again in a while." : said.detail || "This could not be shown.");

  function open(passphrase, then, otherwise) {
    ask("POST", "/api/outside", { secret: secret, passphrase: passphrase }, (status, said) => {
      const kind = String(said.type || "").split(":").pop();
      if (status === 200) {
        link = said.id;
        part("ask").hidden = true;
        then();
        return;
      }
      if (otherwise) otherwise();
      const asks = kind === "passphrase-wanted" || kind === "wrong-password";
      part("ask").hidden = !asks;
      say(kind === "passphrase-wanted" ? "" : reason(status, said));
      if (asks) part("passphrase").focus();
    });
  }

  // The next pictures. A visit that is over is begun again, once.
  function more(again) {
    if (asking) return;
    asking = true;
    ask("GET", `/api/outside/${link}${next ? `?after=${encodeURIComponent(next)}` : ""}`, undefined, (status, said) => {
      asking = false;
      if (status === 401 && !again) return open(undefined, () => more(true));
      if (status !== 200) return say(status === 401 ? "This link has ended, or was withdrawn." : reason(status, said));
      show(said);
    });
  }

  function show(page) {
    document.title = page.name;
    part("name").textContent = page.name;
    part("from").textContent = `From ${page.from}, until ${new Date(page.ends_at).toLocaleDateString("en-GB", LONG)}`;
    part("words").textContent = page.words;
    handsOut = page.hands_out;
    const list = part("pictures");
    const rest = list.querySelector(".rest");
    if (rest) list.removeChild(rest);
    page.pictures.forEach((picture) => {
      if (picture.words_before) list.appendChild(told(picture.words_before));
      list.appendChild(tile(picture, pictures.length));
      pictures.push(picture);
    });
    if (page.words_after) list.appendChild(told(page.words_after));
    const end = document.createElement("li");
    end.className = "rest";
    end.setAttribute("aria-hidden", "true");
    list.appendChild(end);
    next = page.next;
    part("all").hidden = pictures.length === 0;
    part("all").textContent = KEEP_ALL[handsOut];
    part("all").href = `/api/outside/${link}/zip`;
    if (page.takes) bring(page.from);
    say(pictures.length === 0 ? "There is no picture here just now." : "");
    turned();
    near();
  }

  // What stands between the pictures of an album that somebody arranged.
  function told(words) {
    const item = document.createElement("li");
    item.className = "words";
    item.textContent = words;
    return item;
  }

  // Only who may bring something needs what sends it.
  function bring(from) {
    if (document.getElementById("bringing")) return;
    const script = document.createElement("script");
    script.id = "bringing";
    script.src = "/bring.js";
    script.onload = () => window.bring(link, from, open);
    document.body.appendChild(script);
  }

  function tile(picture, n) {
    const item = document.createElement("li");
    const ratio = picture.width && picture.height ? Math.min(2.4, Math.max(0.55, picture.width / picture.height)) : 1.33;
    item.style.width = `${Math.round(ratio * (window.innerWidth < 640 ? 118 : 190))}px`;
    const button = document.createElement("button");
    button.type = "button";
    button.setAttribute("aria-label", picture.kind === "video" ? `${picture.name}, a film` : picture.name);
    if (picture.shown) {
      const image = document.createElement("img");
      image.alt = "";
      image.setAttribute("loading", "lazy");
      image.src = `/api/outside/${link}/pictures/${picture.id}/small`;
      button.appendChild(image);
    } else {
      button.appendChild(document.createTextNode(picture.name));
    }
    if (picture.kind === "video") {
      const film = document.createElement("span");
      film.className = "film";
      film.textContent = "▶";
      button.appendChild(film);
    }
    button.onclick = () => {
      last = button;
      look(n);
      part("close").focus();
    };
    item.appendChild(button);
    return item;
  }

  function look(n) {
    const picture = pictures[n];
    if (!picture) return;
    at = n;
    part("look").hidden = false;
    document.body.style.overflow = "hidden";
    part("called").textContent = picture.name;
    part("large").hidden = !picture.shown || picture.plays;
    play(picture);
    if (picture.shown) part("large").src = `/api/outside/${link}/pictures/${picture.id}/large`;
    part("large").alt = picture.name;
    const still = picture.kind === "video" && !picture.plays ? (handsOut === "originals" ? "A film; download it to see it." : "A film, of which a still is shown here.") : "";
    part("none").hidden = picture.shown || picture.plays;
    part("none").textContent = still || "There is nothing to show of this file.";
    part("called").textContent = still ? `${picture.name}. ${still}` : picture.name;
    part("keep").hidden = !picture.shown && handsOut !== "originals";
    part("keep").textContent = KEEP[handsOut];
    part("keep").href = `/api/outside/${link}/files/${picture.id}`;
    turned();
    if (n > pictures.length - 5 && next) more();
  }

  // A film begins when somebody presses play, and ends with the look at it.
  function play(picture) {
    const film = part("film");
    film.hidden = !(picture && picture.plays);
    film.pause();
    film.removeAttribute("src");
    film.removeAttribute("poster");
    if (film.hidden) return;
    film.setAttribute("aria-label", picture.name);
    if (picture.shown) film.poster = `/api/outside/${link}/pictures/${picture.id}/large`;
    film.src = `/api/outside/${link}/films/${picture.id}`;
  }

  // Which ways there are from the picture that is looked at.
  function turned() {
    part("before").disabled = at <= 0;
    part("next").disabled = at >= pictures.length - 1;
  }

  function close() {
    part("look").hidden = true;
    play();
    document.body.style.overflow = "";
    at = -1;
    if (last) last.focus();
  }

  function near() {
    const left = document.documentElement.scrollHeight - window.pageYOffset - window.innerHeight;
    if (next && left < 1200) more();
  }

  part("before").onclick = () => look(at - 1);
  part("next").onclick = () => look(at + 1);
  part("close").onclick = close;
  part("ask").onsubmit = (e) => {
    e.preventDefault();
    say("");
    open(part("passphrase").value, () => more(true));
  };
  window.addEventListener("scroll", near);
  window.addEventListener("hashchange", () => location.reload());
  document.addEventListener("keydown", (e) => {
    if (at < 0) return;
    if (e.key === "Escape") close();
    // A film has these keys for itself.
    if (e.target === part("film") && e.key !== "Escape" && e.key !== "Tab") return;
    if (e.key === "ArrowLeft" && at > 0) look(at - 1);
    if (e.key === "ArrowRight") look(at + 1);
    if (e.key === "Tab") keepInside(e);
  });

  // The keys stay within what is looked at.
  function keepInside(e) {
    const all = [].slice.call(part("look").querySelectorAll("video:not([hidden]), a:not([hidden]), button:not([disabled])"));
    const end = e.shiftKey ? all[0] : all[all.length - 1];
    if (document.activeElement !== end) return;
    e.preventDefault();
    all[e.shiftKey ? all.length - 1 : 0].focus();
  }

  if (secret) open(undefined, () => more(true));
  else say("This link is not whole: what opens it, at its end, is missing. Copy all of it.");
})();
