"""The list of shores."""

def test_list_shows_all_shores(phone):
    """Every shore is on the first screen, or a swipe away."""
    phone.launch()
    phone.find("#shore_gull-ledge")
    phone.step("the list of shores")
    if not phone.sees("#shore_tern-rocks"):
        phone.swipe("up")
    check.contains(phone.read("#shore_tern-rocks"), "Tern Rocks")

def test_search_narrows_the_list(phone):
    """Typing a part of a name leaves the shores that have it."""
    phone.launch()
    phone.type("#search", "mussel")
    phone.step("searched")
    check.equal(len(phone.all("group[id^=shore_]")), 1, "shores found")
    check.contains(phone.read("#shore_mussel-steps"), "Mussel Steps")
    phone.hide_keyboard()
    phone.clear("#search")
    phone.hide_keyboard()
    phone.find("#shore_gull-ledge")
