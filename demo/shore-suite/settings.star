"""Settings."""

load("lib/steps.star", "fill", "open_settings", "open_what_asks")

def test_heights_in_feet(phone):
    """Switching to feet changes the tide table."""
    open_settings(phone)
    phone.tap("#feet")
    check.that(phone.find("#feet[checked]").checked, "the switch is on")
    phone.step("feet chosen")
    phone.back()
    phone.tap("#shore_gull-ledge")
    check.contains(phone.read("#tide_0_detail"), "ft", "heights")

def test_dark_screen(phone):
    """The dark screen is kept while one walks about."""
    open_settings(phone)
    phone.tap("#dark")
    phone.find("#dark[checked]")
    phone.back()
    phone.find("#shore_gull-ledge")
    phone.step("dark")

def test_sign_in(phone):
    """An observer who signs in stands in the settings by name."""
    open_settings(phone)
    fill(phone, "#observer", inputs["observer"])
    fill(phone, "#code", inputs["observer-code"])
    phone.tap(phone.scroll_to("#signin"))
    check.contains(phone.read("#signed"), inputs["observer"])

def test_permissions_allowed(phone):
    """Allowed to see where one is, Kelpline offers the shores near by."""
    open_what_asks(phone)
    phone.tap("#place")
    phone.allow("location")
    check.that(phone.find("#place[checked]").checked, "the switch is on")
    phone.step("allowed")

def test_permissions_denied(phone):
    """Denied, it says so, and the switches stay off. Systems before Android 13 don't ask for notifications."""
    open_what_asks(phone)
    phone.tap("#place")
    phone.deny("location")
    phone.find("#place_refused")
    if phone.facts["api"] >= 33:
        phone.tap(phone.scroll_to("#remind"))
        phone.deny("notifications")
        phone.scroll_to("#remind_refused")
    phone.step("denied")

def test_about(phone):
    """The dialog says which version this is, and goes away again."""
    open_settings(phone)
    phone.tap(phone.scroll_to("#about"))
    check.contains(phone.read("#dialog_title"), "Kelpline 1.")
    check.that(not phone.sees("#feet"), "nothing under the dialog can be reached")
    phone.step("about")
    phone.tap("#close")
    phone.wait_gone("#dialog_title")
    phone.find("#about")

def test_back_closes_the_dialog(phone):
    """Back closes the dialog, and nothing but the dialog."""
    expect_failure("Back leaves the settings altogether, known since 1.7")
    open_settings(phone)
    phone.tap(phone.scroll_to("#about"))
    phone.find("#dialog_title")
    phone.back()
    phone.find("#about", within = 3)
