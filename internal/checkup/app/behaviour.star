# What simulated devices run in place of the code.

def start():
    state["value"] = ""
    if "ask" in start_args:
        ask_permission(start_args["ask"].removeprefix("android.permission."), lambda granted: None)

def keep(value):
    state["value"] = value

def view():
    return screen("Tessellant check", body = [
        text("Tessellant looks whether this device can be tested.", id = "what"),
        field(id = "field", value = state["value"], on_change = keep),
    ])
