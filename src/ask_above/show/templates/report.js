"use strict";
const byId = id => document.getElementById(id);
const shown = each => !each.hidden;
const data = JSON.parse(byId("data").textContent);
const HOLE = "\0", ACTOR = "\x01", TARGET = "\x02";

/* Elements are made of text alone: what somebody wrote is never read as HTML. */
function make(tag, attributes, ...children) {
  const made = document.createElement(tag);
  for (const [name, value] of Object.entries(attributes)) {
    if (name === "onclick") made.addEventListener("click", value);
    else if (value !== false) made.setAttribute(name, value === true ? "" : value);
  }
  made.append(...children.filter(child => child !== null));
  return made;
}
const filled = (text, hole, [name, first]) =>
  (text.startsWith(hole) ? first + text.slice(1) : text).split(hole).join(name);

/* ---- the tables of the report: one cell is reached by the tabulator, the others from there by the arrow keys */

function choose(button, table) {
  const last = table.querySelector("button[tabindex='0']");
  if (last) last.tabIndex = -1;
  button.tabIndex = 0;
  button.focus();
  const why = byId(table.dataset.why);
  why.textContent = button.getAttribute("aria-label");
  why.classList.remove("quiet");
}
function step(cell, key, table) {
  const rows = [...table.querySelectorAll("tr.row")].filter(shown), row = cell.parentElement;
  const across = [...row.cells].filter(shown), at = across.indexOf(cell), down = rows.indexOf(row);
  if (key === "Home") return across[1];
  if (key === "End") return across[across.length - 1];
  if (key === "ArrowLeft") return across[at - 1];
  if (key === "ArrowRight") return across[at + 1];
  const next = rows[down + (key === "ArrowDown" ? 1 : -1)];
  return next && [...next.cells].filter(shown)[at];
}
const ARROWS = ["ArrowLeft", "ArrowRight", "ArrowUp", "ArrowDown", "Home", "End"];
for (const table of document.querySelectorAll("table.ask")) {
  for (const button of table.querySelectorAll("button")) button.tabIndex = -1;
  const first = table.querySelector("button");
  if (first) first.tabIndex = 0;
  table.addEventListener("click", event => {
    const button = event.target.closest("button");
    if (button) choose(button, table);
  });
  table.addEventListener("keydown", event => {
    const cell = event.target.closest("td");
    if (!cell || !ARROWS.includes(event.key)) return;
    event.preventDefault();
    const next = step(cell, event.key, table), button = next && next.querySelector("button");
    if (button) choose(button, table);
  });
}

/* ---- power over ranks: why for each cell, and all of one rank as a list */

const {powers} = data, rankTitles = powers.ranks, ACTS = ["moderate", "assign", "manage"];
/* Returns every reason why one rank may not act on another; none where it may. */
function powerWhy(act, actor, target) {
  const number = powers.acts[act][actor * rankTitles.length + target];
  const texts = number < 0 ? [] : powers.accounts[number].map(text => powers.texts[text]);
  return texts.map(text => filled(filled(text, ACTOR, rankTitles[actor]), TARGET, rankTitles[target]));
}
for (const act of ACTS) {
  [...byId(act).querySelectorAll("tr.row")].forEach((row, actor) => {
    row.querySelectorAll("button").forEach((button, target) => {
      const names = `${rankTitles[actor][0]}, ${rankTitles[target][0]}`;
      button.setAttribute("aria-label", `${names}: ${powerWhy(act, actor, target).join(" ") || "may"}`);
    });
  });
}
const powerRank = byId("power-rank"), powerList = byId("power-list");
powerRank.addEventListener("change", () => {
  powerList.replaceChildren();
  if (powerRank.value === "") return;
  for (const act of ACTS) {
    const reasons = rankTitles.map((_, target) => powerWhy(act, Number(powerRank.value), target));
    const titles = wanted => rankTitles.filter((_, target) => wanted(reasons[target])).map(([title]) => title);
    const not = reasons.filter(each => each.length), shared = not.length > 1
      ? not[0].filter(text => not.every(each => each.includes(text))) : [];
    const left = new Map();
    reasons.forEach((each, target) => {
      const own = each.filter(text => !shared.includes(text)).join(" ");
      if (own) left.set(own, [...(left.get(own) || []), rankTitles[target][0]]);
    });
    const may = titles(each => !each.length).join(", ");
    powerList.append(
      make("h4", {}, `May ${act}`), make("p", {}, may || "No rank."),
      shared.length ? make("p", {}, make("b", {}, may ? "All others" : "All"), `: ${shared.join(" ")}`) : "",
      make("ul", {}, ...[...left].map(([why, some]) => make("li", {}, make("b", {}, some.join(", ")), `: ${why}`))));
  }
});

/* ---- the grid: narrowed by words, heading and rank */

const cells = byId("cells"), tools = ["filter", "heading", "rank"].map(byId);
function narrow() {
  const [text, heading, rank] = tools.map(tool => tool.value.trim().toLowerCase());
  const left = new Set();
  for (const row of cells.querySelectorAll("tr.row")) {
    row.hidden = !row.dataset.text.includes(text) || (heading !== "" && row.dataset.heading.toLowerCase() !== heading);
    if (!row.hidden) left.add(row.dataset.heading);
  }
  for (const row of cells.querySelectorAll("tr.heading")) row.hidden = !left.has(row.dataset.heading);
  for (const cell of cells.querySelectorAll("[data-rank]")) cell.hidden = rank !== "" && cell.dataset.rank !== rank;
  // the tabulator must find a cell that is there
  const reached = cells.querySelector("button[tabindex='0']");
  const rows = [...cells.querySelectorAll("tr.row")].filter(shown);
  const first = rows.flatMap(row => [...row.cells].slice(1).filter(shown))[0];
  if (first && reached && (reached.closest("td").hidden || reached.closest("tr").hidden)) {
    reached.tabIndex = -1;
    first.querySelector("button").tabIndex = 0;
  }
}
for (const tool of tools) for (const event of ["input", "change"]) tool.addEventListener(event, narrow);

// on paper nothing is folded
addEventListener("beforeprint", () => { for (const each of document.querySelectorAll("details")) each.open = true; });

const found = byId("find-person");
if (found) found.addEventListener("input", () => {
  const text = found.value.trim().toLowerCase();
  for (const row of byId("persons").tBodies[0].rows) row.hidden = !row.textContent.toLowerCase().includes(text);
});

/* ---- the answers: all of them were made before; here they are looked up */

const bytes = text => Uint8Array.from(atob(text), letter => letter.charCodeAt(0));
const numbers = text => new Uint16Array(bytes(text).buffer);
const {seeing} = data;
const persons = data.persons.map(([key, shownAs, name, first, sort, row]) => ({key, shownAs, name, first, sort, row}));
const places = data.places.map(([key, title, where, depth, layer], number) => ({key, title, where, depth, layer, number}));
const capabilities = data.capabilities.map(([key, about, heading, risk], number) => ({key, about, heading, risk, number}));
const byKey = list => new Map(list.map(each => [each.key, each]));
const personAt = byKey(persons), placeAt = byKey(places), capabilityAt = byKey(capabilities);
const can = bytes(data.can), shapes = data.shapes.map(numbers);
const told = data.told.map(([shape, table]) => [shapes[shape], numbers(table)]);
const width = Math.ceil(capabilities.length / 8);
const layerCount = Math.max(...places.map(place => place.layer)) + 1;
const ownPairs = new Map(Object.entries(data.pairs));
const bareOf = new Map([...ownPairs].flatMap(([bare, pair]) => pair.map(number => [number, bare])));

function may(person, place, capability) {
  const byte = (person.row * layerCount + place.layer) * width + (capability.number >> 3);
  return (can[byte] >> (capability.number & 7) & 1) === 1;
}
function account(person, place, capability) {
  if (!told[person.row]) return null;
  const [shape, table] = told[person.row];
  const numbersOf = data.accounts[table[shape[place.layer * capabilities.length + capability.number]]];
  return numbersOf ? numbersOf.map(number => filled(data.texts[number], HOLE, [person.name, person.first])) : null;
}
const stateOf = (person, place) => ({o: "open", c: "shown as closed", n: "not there"})[data.states[person.row][place.number]];
function sentence(person, place, capability) {
  const yes = may(person, place, capability), {about} = capability;
  const means = about ? ` (${about[0].toLowerCase()}${about.slice(1)})` : "";
  return `${yes ? "Yes" : "No"}: ${person.name} may ${yes ? "" : "not "}use ${capability.key} ${place.where}${means}.`;
}
function command(person, place, capability) {
  const at = place.number === 0 ? "" : ` --at ${place.key}`;
  return `ask-above may ${person.key} ${capability.key}${at} --full`;
}

/* ---- what is asked stands in the address: #as=dara&at=notices&may=post.edit&own=1 */

const fields = {as: byId("ask-as"), beside: byId("ask-beside"), at: byId("ask-at"), may: byId("ask-may")};
const own = byId("ask-own"), asked = byId("asked");
const optionOf = person => person.sort === "member" && person.key !== person.shownAs ? `${person.shownAs} (${person.key})`
  : person.sort === "rank" ? `${person.shownAs} (rank)` : person.shownAs;
const placeOption = place => places.some(other => other !== place && other.title === place.title)
  ? `${place.title} (${place.key})` : place.title;
const questions = [...new Set(capabilities.map(each => bareOf.get(each.number) || each.key))];

function fill(id, options) {
  byId(id).replaceChildren(...options.map(([value, label]) => make("option", label ? {value, label} : {value})));
}
fill("list-persons", persons.map(person => [optionOf(person)]));
fill("list-places", places.map(place => [placeOption(place), place.key]));
fill("list-capabilities", questions.map(key => {
  const first = capabilities[ownPairs.has(key) ? ownPairs.get(key)[0] : capabilityAt.get(key).number];
  return [key, first.about];
}));

/* Finds what was typed: as it is offered, by key, or by a part that only one has. */
function find(text, list, ways) {
  const said = text.trim().toLowerCase();
  if (said === "") return undefined;
  for (const way of ways) {
    const same = list.filter(each => way(each).toLowerCase() === said);
    if (same.length) return same[0];
  }
  const part = list.filter(each => ways.some(way => way(each).toLowerCase().includes(said)));
  return part.length === 1 ? part[0] : null;
}
const findPerson = text => find(text, persons, [optionOf, each => each.shownAs, each => each.key]);
const findPlace = text => find(text, places, [placeOption, each => each.key]);
const asking = capability => bareOf.has(capability.number)
  ? {may: bareOf.get(capability.number), own: ownPairs.get(bareOf.get(capability.number))[0] === capability.number ? "1" : "0"}
  : {may: capability.key, own: ""};
function findQuestion(text) {
  return find(text, questions, [key => key, key => capabilityAt.has(key) ? capabilityAt.get(key).about : key]);
}

function read() {
  const said = new URLSearchParams(location.hash.slice(1));
  const question = said.get("may"), whole = capabilityAt.get(question);
  const bare = whole && bareOf.has(whole.number) ? bareOf.get(whole.number) : question;
  const pair = ownPairs.get(bare);
  const isOwn = said.has("own") ? said.get("own") === "1" : Boolean(pair && whole && pair[0] === whole.number);
  const lists = {as: personAt, beside: personAt, at: placeAt};
  const unknown = Object.keys(lists).filter(name => said.has(name) && !lists[name].has(said.get(name)))
    .map(name => said.get(name)).concat(question !== null && !pair && !whole ? [question] : []);
  return {
    unknown, as: personAt.get(said.get("as")), beside: personAt.get(said.get("beside")),
    at: placeAt.get(said.get("at")) || places[0], bare, isOwn,
    capability: pair ? capabilities[pair[isOwn ? 0 : 1]] : whole,
  };
}
function write(changes) {
  const said = new URLSearchParams(location.hash.includes("=") ? location.hash.slice(1) : "");
  for (const [key, value] of Object.entries(changes)) value === "" ? said.delete(key) : said.set(key, value);
  const hash = said.toString();
  if (hash !== location.hash.slice(1)) location.hash = hash || "site";
}
for (const [name, field] of Object.entries(fields)) field.addEventListener("change", () => {
  const whole = name === "may" && capabilityAt.get(field.value.trim().toLowerCase());
  if (whole) return write(asking(whole));
  const hit = {as: findPerson, beside: findPerson, at: findPlace, may: findQuestion}[name](field.value);
  byId("ask-unknown").textContent = hit === null ? `“${field.value}” names nothing here, or several things.` : "";
  if (hit === undefined) write({[name]: ""});
  else if (hit !== null) write({[name]: hit.key || hit});
});
own.addEventListener("change", () => write({own: own.value}));
byId("ask-clear").addEventListener("click", () => { write({as: "", beside: "", at: "", may: "", own: ""}); });

/* ---- the tree of places, and one place of it */

let drawnFor = "";
function count(state) {
  const {as, beside} = state;
  return place => {
    const here = capabilities.filter(each => may(as, place, each)).length;
    if (!beside) return stateOf(as, place) === "open" ? String(here) : stateOf(as, place);
    const one = capabilities.filter(each => may(as, place, each) && !may(beside, place, each)).length;
    const other = capabilities.filter(each => !may(as, place, each) && may(beside, place, each)).length;
    return one || other ? `${one} | ${other}` : "alike";  // explained at the head of the list
  };
}
function drawTree(state) {
  const tree = byId("tree"), form = [state.as.key, state.beside && state.beside.key].join(" ");
  if (form !== drawnFor) {
    drawnFor = form;
    const said = count(state);
    tree.replaceChildren(...places.map(place => make("li", {class: `deep-${Math.min(place.depth, 9)}`}, make(
      "button", {type: "button", class: stateOf(state.as, place) === "open" ? "open" : "shut", tabindex: "-1",
        onclick: () => write({at: place.key})},
      make("span", {}, place.title), make("span", {class: "count"}, said(place)),
    ))));
    byId("tree-head").textContent = state.beside
      ? `What only ${state.as.shownAs} | only ${state.beside.shownAs} may use` : "Places, and how much may be used there";
  }
  for (const [number, button] of [...tree.querySelectorAll("button")].entries()) {
    const here = number === state.at.number;
    button.tabIndex = here ? 0 : -1;
    here ? button.setAttribute("aria-current", "true") : button.removeAttribute("aria-current");
  }
}
byId("tree").addEventListener("keydown", event => {
  if (!["ArrowUp", "ArrowDown", "Home", "End"].includes(event.key)) return;
  event.preventDefault();
  const buttons = [...byId("tree").querySelectorAll("button")], at = buttons.indexOf(document.activeElement);
  const next = {ArrowUp: at - 1, ArrowDown: at + 1, Home: 0, End: buttons.length - 1}[event.key];
  if (buttons[next]) { buttons[next].focus(); buttons[next].click(); }
});

function listed(state, title, some, marks) {
  if (!some.length) return null;
  const headings = [...new Set(some.map(each => each.heading))];
  const item = each => make("li", {}, make("button", {type: "button", class: "can", onclick: () => write(asking(each))}, each.about || each.key),
  make("span", {class: "quiet small"}, ` ${each.key}`),
  each.risk === "high" ? make("span", {class: "warn small"}, " high risk") : null,
  marks.has(each.number) ? make("b", {class: "mark-here"}, ` ${marks.get(each.number)}`) : null);
  return make("div", {}, make("h4", {}, title), ...headings.flatMap(heading => [
    make("h5", {}, heading), make("ul", {}, ...some.filter(each => each.heading === heading).map(item))]));
}
function drawPlace(state) {
  const {as, beside, at} = state, shut = stateOf(as, at), parts = [make("h3", {}, at.title)];
  const usable = person => capabilities.filter(each => may(person, at, each));
  if (beside) {
    parts.push(make("p", {}, `${as.first}: ${shut}. ${beside.first}: ${stateOf(beside, at)}.`));
    const one = usable(as), other = usable(beside), none = new Map();
    parts.push(
      listed(state, `Only ${as.name}`, one.filter(each => !other.includes(each)), none),
      listed(state, `Only ${beside.name}`, other.filter(each => !one.includes(each)), none),
      listed(state, "Both", one.filter(each => other.includes(each)), none));
  } else if (shut !== "open") {
    const why = capabilities.length ? account(as, at, capabilities[seeing]) : null;
    parts.push(make("p", {}, `${as.first} finds it ${shut}.`), why ? make("p", {class: "quiet"}, why[0]) : null);
  } else {
    const [more, less] = data.changes[as.row][at.number] || [[], []];
    const marks = new Map(more.map(number => [number, "+ this place adds it"]));
    const mine = usable(as);
    parts.push(
      mine.length ? listed(state, `What ${as.name} may use here`, mine, marks) : make("p", {}, `${as.first} may use nothing here.`),
      listed(state, "What this place takes away", less.map(number => capabilities[number]), new Map()));
    if (as.row >= data.marked) parts.push(make("p", {class: "quiet small"}, "What this place changes is not marked for them: the page would take too long to make."));
  }
  byId("place-here").replaceChildren(...parts.filter(part => part !== null));
}

/* ---- the answer, its reason, and who else may */

function names(list) {
  const most = 60, some = list.slice(0, most);
  const links = some.flatMap((person, number) => [
    number ? ", " : "", make("a", {href: `#${new URLSearchParams({...current(), as: person.key})}`}, person.shownAs)]);
  return make("p", {}, ...(links.length ? links : ["nobody"]), list.length > most ? ` and ${list.length - most} more` : "");
}
const current = () => Object.fromEntries(new URLSearchParams(location.hash.slice(1)));
function drawAnswer(state) {
  const {as, at, capability} = state, box = byId("answer");
  box.replaceChildren();
  if (!capability) return;
  if (as) {
    const why = account(as, at, capability), yes = may(as, at, capability);
    box.append(make("p", {class: yes ? "said yes" : "said no"}, sentence(as, at, capability)));
    if (why) box.append(make("p", {}, why[0]));
    if (why && why.length > 1) box.append(make("details", {}, make("summary", {}, "Every step"),
      make("ol", {}, ...why.slice(1).map(text => make("li", {}, text)))));
    else if (as.sort === "member") box.append(make("p", {class: "quiet small"}, "Every step: ", make("code", {}, command(as, at, capability))));
    const note = data.notes[as.row][`${at.number} ${capability.number}`];
    if (note !== undefined) box.append(make("p", {class: "quiet"}, filled(data.texts[note], HOLE, [as.name, as.first])));
  }
  const able = persons.filter(person => may(person, at, capability));
  box.append(make("details", as ? {} : {open: true}, make("summary", {}, `Who may use ${capability.key} ${at.where}`),
    make("h4", {}, "Ranks"), names(able.filter(each => each.sort !== "member")),
    ...(persons.some(each => each.sort === "member") ? [make("h4", {}, "Members"), names(able.filter(each => each.sort === "member"))] : [])));
}
function drawFields(state) {
  fields.as.value = state.as ? optionOf(state.as) : "";
  fields.beside.value = state.beside ? optionOf(state.beside) : "";
  fields.at.value = location.hash.includes("at=") ? placeOption(state.at) : "";
  fields.may.value = state.capability ? state.bare : "";
  own.value = state.isOwn ? "1" : "0";
  byId("ask-whose").hidden = !ownPairs.has(state.bare);
  byId("ask-unknown").textContent = state.unknown.map(name => `Nothing on this page is called “${name}”.`).join(" ");
}
function draw() {
  if (location.hash && !location.hash.includes("=") && location.hash !== "#site") return;
  const state = read();
  drawFields(state);
  asked.hidden = !(state.as || state.capability);
  byId("walk").hidden = !state.as;
  if (asked.hidden) return;
  const who = state.as ? `As ${state.as.name}${state.beside ? `, beside ${state.beside.name}` : ""}` : "Who may";
  byId("h-asked").textContent = who;
  if (state.as) { drawTree(state); drawPlace(state); }
  drawAnswer(state);
  if (asked.getBoundingClientRect().bottom < 0) asked.scrollIntoView();
}
addEventListener("hashchange", draw);
byId("ask").hidden = false;
document.body.classList.add("asks");
draw();

/* ---- the grid at a place: other marks, and why each is so */

const place = byId("place"), looks = {"·": "none", "/": "none", "+": "given", "−": "taken"};
const buttons = [...cells.querySelectorAll("button")];
const before = buttons.map(button => [button.textContent, button.getAttribute("aria-label")]);
const ranks = persons.filter(person => person.sort === "rank");
place.replaceChildren(
  make("option", {value: ""}, "without places"),
  ...places.map(each => make("option", {value: each.key}, `${"\u00a0\u00a0".repeat(each.depth)}${each.number ? each.title : "the whole site"}`)));
function atPlace(at, number) {
  const row = Math.floor(number / ranks.length);
  const mark = data.signs[data.markRows[data.marks[at.layer][row]][number % ranks.length]];
  const why = account(ranks[number % ranks.length], at, capabilities[row]);
  return [mark, why ? why[0] : command(ranks[number % ranks.length], at, capabilities[row])];
}
place.addEventListener("change", () => {
  const at = placeAt.get(place.value);
  byId("legend").hidden = Boolean(at);
  byId("legend-at").hidden = !at;
  buttons.forEach((button, number) => {
    const [mark, why] = at ? atPlace(at, number) : before[number];
    if (button.textContent !== mark) {
      button.textContent = mark;
      button.className = looks[mark] || "";
    }
    button.setAttribute("aria-label", why);
  });
  const chosen = cells.querySelector("button[tabindex='0']");
  if (chosen && !byId("why").classList.contains("quiet")) byId("why").textContent = chosen.getAttribute("aria-label");
});
