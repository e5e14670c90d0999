# The input method. While it is chosen, it listens for texts; only who may dump the system's state, as the shell may, can send one.
.class public Ltessellant/keyboard/Keyboard;
.super Landroid/inputmethodservice/InputMethodService;

.field private ear:Ltessellant/keyboard/Ear;

.method public constructor <init>()V
    .registers 1
    invoke-direct {p0}, Landroid/inputmethodservice/InputMethodService;-><init>()V
    return-void
.end method

.method public onCreate()V
    .registers 6
    invoke-super {p0}, Landroid/inputmethodservice/InputMethodService;->onCreate()V
    new-instance v0, Ltessellant/keyboard/Ear;
    invoke-direct {v0, p0}, Ltessellant/keyboard/Ear;-><init>(Ltessellant/keyboard/Keyboard;)V
    iput-object v0, p0, Ltessellant/keyboard/Keyboard;->ear:Ltessellant/keyboard/Ear;
    new-instance v1, Landroid/content/IntentFilter;
    const-string v2, "tessellant.keyboard.TYPE"
    invoke-direct {v1, v2}, Landroid/content/IntentFilter;-><init>(Ljava/lang/String;)V
    const-string v2, "android.permission.DUMP"
    const/4 v3, 0x0
    invoke-virtual {p0, v0, v1, v2, v3}, Ltessellant/keyboard/Keyboard;->registerReceiver(Landroid/content/BroadcastReceiver;Landroid/content/IntentFilter;Ljava/lang/String;Landroid/os/Handler;)Landroid/content/Intent;
    return-void
.end method

.method public onDestroy()V
    .registers 2
    iget-object v0, p0, Ltessellant/keyboard/Keyboard;->ear:Ltessellant/keyboard/Ear;
    invoke-virtual {p0, v0}, Ltessellant/keyboard/Keyboard;->unregisterReceiver(Landroid/content/BroadcastReceiver;)V
    invoke-super {p0}, Landroid/inputmethodservice/InputMethodService;->onDestroy()V
    return-void
.end method

# It never covers the app, however the device is held.
.method public onEvaluateFullscreenMode()Z
    .registers 2
    const/4 v0, 0x0
    return v0
.end method
