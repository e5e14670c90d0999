# What is Kelpline 1.9.0's own.

VERSION = "1.9.0"

def TideChart_onDraw():
    platform_call("android.graphics.Canvas", "drawRoundRect(FFFFFFLandroid/graphics/Paint;)V", since = 21)

def arranged(fields):
    # New: on tablets the fields lie side by side.
    return [grid(min_cell = 300, body = fields)] if smallest_dp() >= 600 else fields

def rotated():
    # Its fault: the new arrangement is made from nothing when a tablet is turned, the draft with it.
    if smallest_dp() >= 600:
        new_draft()

def extras():
    # New: settings that need the user's yes.
    return [line()] + asking("place", "ACCESS_FINE_LOCATION") + asking("remind", "POST_NOTIFICATIONS")

def asking(name, permission):
    refused = [text(t("no_" + name), id = name + "_refused")] if state.get(name) == "refused" else []
    return [switch(t(name), id = name, checked = state.get(name) == "on", on_tap = lambda on: ask(name, permission) if on else answered(name, "off"))] + refused

def ask(name, permission):
    ask_permission(permission, lambda granted: answered(name, "on" if granted else "refused"))

def answered(name, answer):
    state[name] = answer

