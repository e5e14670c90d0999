# What simulated phones run in place of the compiled code: an input method says which it is, and takes broadcasts while it is chosen.
INPUT_METHOD = "tessellant.keyboard/.Keyboard"
ACTION = "tessellant.keyboard.TYPE"
PERMISSION = "android.permission.DUMP"

def received(extras):
    if "text64" not in extras:
        return 0
    return 1 if commit(base64(extras["text64"])) else 2
