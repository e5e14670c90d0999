"""Steps that several files take."""

def open_shore(phone, shore = "gull-ledge"):
    """From the start to the tides of a shore."""
    phone.launch()
    phone.tap("#shore_" + shore)
    phone.find("#tide_0")

def open_survey(phone):
    """From the start to an empty survey."""
    open_shore(phone)
    phone.tap(phone.scroll_to("#start"))

def open_settings(phone):
    """From the start to the settings."""
    phone.launch()
    phone.find("#shore_gull-ledge")
    phone.tap(phone.scroll_to("#settings"))

def open_what_asks(phone):
    """From a start as new to the settings that ask for permissions, where this version of Kelpline has them."""
    phone.ask_permissions()
    open_settings(phone)
    phone.scroll_to("#about")
    if not phone.sees("#place"):
        skip("this version of Kelpline does not ask")

def fill(phone, field, text):
    """Types into a field and puts the keyboard away."""
    phone.type(field, text)
    phone.hide_keyboard()

def in_language(phone, number):
    """A number as a person writes it in the phone's language."""
    return number.replace(".", ",") if phone.facts["language"] == "de" else number
