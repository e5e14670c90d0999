# Kelpline: what the app does, run by simulated phones in place of compiled
# code. view() gives the screen for the state; the functions below it are what
# taps and answers do. What differs between versions stands in versions/, which
# build.sh puts before this file.

API = "http://tides.kelpline.example"
SURVEYS = "https://surveys.kelpline.example"
ACCOUNTS = "https://accounts.kelpline.example"  # whose certificate the app knows: no other will do

TEXTS = {
    "en": {
        "shores": "Shores", "search": "Search shores", "loading": "Loading shores…", "offline": "The tide service can't be reached.",
        "retry": "Try again", "none": "No shore has that name.", "tides": "Tides today", "high": "High water", "low": "Low water",
        "chart": "Tide chart", "table": "Tide table", "start": "Start survey", "survey": "Survey", "quadrat": "Quadrat 1 of 1, 50 × 50 cm",
        "wrack": "Bladder wrack, cover in %", "kelp": "Sugar kelp, cover in %", "barnacle": "Acorn barnacles, count", "note": "Note",
        "total": "Total cover: ", "review": "Review", "send": "Send", "sent": "Sent", "thanks": "Thank you. Your survey is in.",
        "receipt": "Receipt ", "done": "Back to shores", "sending": "Sending…", "settings": "Settings", "feet": "Heights in feet", "dark": "Dark screen",
        "check": "Is this right?", "shore": "Shore", "observer": "Observer", "weather": "Weather", "you": "You", "calm": "Calm, dry",
        "about": "About Kelpline", "help": "Help", "close": "Close", "purpose": "Survey rock pools at low tide. Made by volunteers.",
        "pinned": "Pinned · ", "code": "Observer code", "signin": "Sign in", "signed": "Signed in as ", "refused": "This code is not known.",
        "place": "Show shores near me", "no_place": "Kelpline may not see where you are.", "remind": "Remind me of low water", "no_remind": "Kelpline may not send notifications.",
    },
    "de": {
        "shores": "Küsten", "search": "Küste suchen", "loading": "Küsten werden geladen…", "offline": "Der Gezeitendienst ist nicht erreichbar.",
        "retry": "Noch einmal", "none": "Keine Küste heißt so.", "tides": "Gezeiten heute", "high": "Hochwasser", "low": "Niedrigwasser",
        "chart": "Tidenkurve", "table": "Tidentafel", "start": "Aufnahme beginnen", "survey": "Aufnahme", "quadrat": "Fläche 1 von 1, 50 × 50 cm",
        "wrack": "Blasentang, Deckung in %", "kelp": "Zuckertang, Deckung in %", "barnacle": "Seepocken, Anzahl", "note": "Notiz",
        "total": "Deckung gesamt: ", "review": "Prüfen", "send": "Senden", "sent": "Gesendet", "thanks": "Danke. Die Aufnahme ist angekommen.",
        "receipt": "Beleg ", "done": "Zurück zu den Küsten", "sending": "Wird gesendet…", "settings": "Einstellungen", "feet": "Höhen in Fuß", "dark": "Dunkel",
        "check": "Stimmt alles?", "shore": "Küste", "observer": "Beobachter", "weather": "Wetter", "you": "Sie", "calm": "Ruhig, trocken",
        "about": "Über Kelpline", "help": "Hilfe", "close": "Schließen", "purpose": "Gezeitentümpel bei Niedrigwasser kartieren. Von Freiwilligen gemacht.",
        "pinned": "Gemerkt · ", "code": "Beobachtercode", "signin": "Anmelden", "signed": "Angemeldet als ", "refused": "Dieser Code ist nicht bekannt.",
        "place": "Küsten in der Nähe zeigen", "no_place": "Kelpline darf den Standort nicht sehen.", "remind": "An Niedrigwasser erinnern", "no_remind": "Kelpline darf keine Benachrichtigungen senden.",
    },
}

def t(key):
    return TEXTS.get(language, TEXTS["en"])[key]

def start():
    state["page"] = "shores"
    state["shores"] = None
    state["query"] = ""
    state["error"] = ""
    state["feet"] = False
    state["about"] = False
    state["dark"] = False
    state["pinned"] = {}
    state["name"] = ""
    state["code"] = ""
    state["observer"] = ""
    state["refused"] = False
    new_draft()
    load_shores()
    # For those who try what happens then: debug_block=8000, debug_crash=why, debug_signal=11, debug_ask=CAMERA.
    if "debug_block" in start_args:
        after(500, lambda: block(int(start_args["debug_block"])))
    if "debug_crash" in start_args:
        after(500, lambda: crash(start_args["debug_crash"]))
    if "debug_signal" in start_args:
        after(500, lambda: signal(int(start_args["debug_signal"])))
    if "debug_ask" in start_args:
        after(200, lambda: ask_permission(start_args["debug_ask"], lambda granted: None))

def new_draft():
    state["draft"] = {"wrack": "", "kelp": "", "barnacle": "", "note": ""}

def go(page):
    state["page"] = page

def load_shores():
    state["error"] = ""
    http("GET", API + "/shores", None, shores_loaded)

def shores_loaded(status, answer):
    if status == 200:
        state["shores"] = answer["shores"]
        open_wanted()
    else:
        state["error"] = t("offline")

def open_wanted():
    # Started with a shore, the app opens it.
    for s in state["shores"]:
        if s["id"] == start_args.get("shore", ""):
            open_shore(s)

def resumed():
    if state["shores"] != None and start_args:
        open_wanted()

def page(title, **kw):
    return screen(title, dark = state["dark"], **kw)

# --- screens ---------------------------------------------------------------

def view():
    return {"shores": shores_page, "settings": settings_page, "help": help_page, "shore": shore_page, "survey": survey_page,
            "review": review_page, "sending": sending_page, "sent": sent_page}[state["page"]]()

def shores_page():
    if state["error"]:
        return page(t("shores"), body = [text(state["error"], id = "offline"), button(t("retry"), id = "retry", on_tap = load_shores)])
    if state["shores"] == None:
        return page(t("shores"), body = [space(height = 40), spinner(id = "loading"), text(t("loading"), style = "faint")])
    found = [s for s in state["shores"] if state["query"].lower() in s["name"].lower()]
    items = [shore_row(s) for s in found] or [text(t("none"), id = "none", style = "faint")]
    return page(t("shores"), body = [
        field(id = "search", hint = t("search"), value = state["query"], on_change = set_query),
        button(t("settings"), id = "settings", style = "plain", on_tap = lambda: go("settings")),
    ] + items)

def shore_row(s):
    mark = t("pinned") if s["id"] in state["pinned"] else ""
    return row(s["name"], id = "shore_" + s["id"], detail = mark + s["about"], on_tap = lambda: open_shore(s), on_long = lambda: pin(s))

def pin(s):
    if s["id"] in state["pinned"]:
        state["pinned"].pop(s["id"])
    else:
        state["pinned"][s["id"]] = True

def set_query(value):
    state["query"] = value

def open_shore(s):
    state["shore"] = s
    state["tides"] = None
    state["chart"] = False
    go("shore")
    http("GET", API + "/shores/" + s["id"] + "/tides", None, tides_loaded)

def tides_loaded(status, answer):
    if status == 200:
        state["tides"] = answer

def height(metres):
    if state["feet"]:
        return format_number(metres * 3.28084) + " ft"
    return format_number(metres) + " m"

def shore_page():
    body = [text(state["shore"]["about"], style = "faint"), text(t("tides"), size = "title")]
    if state["tides"] == None:
        body.append(spinner(id = "loading"))
    elif state["chart"]:
        body += [chart(id = "tide_chart", label = t("chart"), points = state["tides"]["heights"]),
                 button(t("table"), id = "show_table", style = "plain", on_tap = hide_chart)]
    else:
        body.append(grid(min_cell = 140, body = [
            pair(t(e["kind"]) + " " + e["time"], id = "tide_%d" % i, detail = height(e["height"]))
            for i, e in enumerate(state["tides"]["extremes"])
        ]))
        body.append(button(t("chart"), id = "show_chart", style = "plain", on_tap = TideChart_show))
    body.append(button(t("start"), id = "start", on_tap = lambda: go("survey")))
    return page(state["shore"]["name"], back = lambda: go("shores"), body = body)

def TideChart_show():
    write_log("TideChart", "drawing %d points" % len(state["tides"]["heights"]))
    TideChart_onDraw()
    state["chart"] = True

def hide_chart():
    state["chart"] = False

def survey_page():
    fields = [draft_field("wrack", True), draft_field("kelp", True), draft_field("barnacle", True), draft_field("note", False)]
    return page(t("survey"), back = lambda: go("shore"), body = [text(t("quadrat"), style = "faint")] + arranged(fields) + [
        text(t("total") + format_number(total()) + " %", id = "total"),
        button(t("review"), id = "review", on_tap = lambda: go("review")),
    ])

def draft_field(key, numeric):
    def change(value):
        state["draft"][key] = value
    return field(id = key, hint = t(key), value = state["draft"][key], numeric = numeric, on_change = change)

def total():
    # A fault of all versions: what a person types in their language is read as if it were English.
    return parse_number(state["draft"]["wrack"]) + parse_number(state["draft"]["kelp"])

def review_page():
    d = state["draft"]
    # A fault of all versions: everything in tiles of at least 160 dp, on a page that does not scroll.
    return page(t("review"), scroll = False, back = lambda: go("survey"), body = [
        text(t("check"), size = "title"),
        grid(min_cell = 160, body = [
            pair(t("shore"), id = "r_shore", detail = state["shore"]["name"]),
            pair(t("observer"), id = "r_observer", detail = state["observer"] or t("you")),
            pair(t("weather"), detail = t("calm")),
            pair(t("wrack").split(",")[0], id = "r_wrack", detail = (d["wrack"] or "0") + " %"),
            pair(t("kelp").split(",")[0], id = "r_kelp", detail = (d["kelp"] or "0") + " %"),
            pair(t("barnacle").split(",")[0], id = "r_barnacle", detail = d["barnacle"] or "0"),
        ]),
        text(t("total") + format_number(total()) + " %", id = "r_total"),
        button(t("send"), id = "send", on_tap = send),
    ])

def send():
    go("sending")
    # A fault of all versions: it waits for memory as long as it takes.
    wait_for_memory(post)

def post():
    http("POST", SURVEYS + "/surveys", {"shore": state["shore"]["id"], "draft": state["draft"], "total": total()}, survey_sent)

def sending_page():
    return page(t("sending"), body = [space(height = 60), spinner(id = "sending")])

def survey_sent(status, answer):
    if status == 201:
        state["receipt"] = answer["receipt"]
        new_draft()
        go("sent")
    else:
        go("review")

def sent_page():
    return page(t("sent"), body = [
        text(t("thanks"), id = "thanks", size = "title"),
        text(t("receipt") + state["receipt"], id = "receipt"),
        button(t("done"), id = "done", on_tap = lambda: go("shores")),
    ])

def settings_page():
    who = [text(t("signed") + state["observer"], id = "signed")] if state["observer"] else [
        field(id = "observer", hint = t("observer"), value = state["name"], on_change = set_name),
        field(id = "code", hint = t("code"), value = state["code"], secret = True, on_change = set_code),
        button(t("signin"), id = "signin", style = "plain", on_tap = sign_in),
    ] + ([text(t("refused"), id = "refused")] if state["refused"] else [])
    return page(t("settings"), back = lambda: go("shores"), body = [
        switch(t("feet"), id = "feet", checked = state["feet"], on_tap = set_feet),
        switch(t("dark"), id = "dark", checked = state["dark"], on_tap = set_dark),
        line(),
    ] + who + extras() + [
        line(),
        button(t("help"), id = "help", style = "plain", on_tap = lambda: go("help")),
        button(t("about"), id = "about", style = "plain", on_tap = lambda: set_about(True)),
    ], dialog = dialog("Kelpline " + VERSION, detail = t("purpose"), body = [
        button(t("close"), id = "close", on_tap = lambda: set_about(False)),
    ]) if state["about"] else None)

def help_page():
    # A page of the service's own, in a web view.
    return page(t("help"), back = lambda: go("settings"), scroll = False, body = [
        web(API + "/help?v=" + VERSION + "&lang=" + language, id = "help_view", label = t("help")),
    ])

def set_name(value):
    state["name"] = value

def set_code(value):
    state["code"] = value

def sign_in():
    http("POST", ACCOUNTS + "/signin", {"observer": state["name"], "code": state["code"]}, signed_in, pinned = True)

def signed_in(status, answer):
    state["refused"] = status != 200
    if status == 200:
        state["observer"] = answer["observer"]
    state["code"] = ""

def set_dark(on):
    state["dark"] = on

def set_about(on):
    state["about"] = on

def set_feet(on):
    state["feet"] = on
