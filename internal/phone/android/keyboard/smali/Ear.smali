# Takes a text (Base64 of UTF-8, in the extra text64) and types it. The broadcast's result is 1 when it was typed, and 2 when no field takes text.
.class public Ltessellant/keyboard/Ear;
.super Landroid/content/BroadcastReceiver;

.field private final keyboard:Ltessellant/keyboard/Keyboard;

.method public constructor <init>(Ltessellant/keyboard/Keyboard;)V
    .registers 2
    invoke-direct {p0}, Landroid/content/BroadcastReceiver;-><init>()V
    iput-object p1, p0, Ltessellant/keyboard/Ear;->keyboard:Ltessellant/keyboard/Keyboard;
    return-void
.end method

.method public onReceive(Landroid/content/Context;Landroid/content/Intent;)V
    .registers 8
    const-string v0, "text64"
    invoke-virtual {p2, v0}, Landroid/content/Intent;->getStringExtra(Ljava/lang/String;)Ljava/lang/String;
    move-result-object v0
    if-eqz v0, :done
    const/4 v1, 0x0
    invoke-static {v0, v1}, Landroid/util/Base64;->decode(Ljava/lang/String;I)[B
    move-result-object v0
    new-instance v1, Ljava/lang/String;
    const-string v2, "UTF-8"
    invoke-static {v2}, Ljava/nio/charset/Charset;->forName(Ljava/lang/String;)Ljava/nio/charset/Charset;
    move-result-object v2
    invoke-direct {v1, v0, v2}, Ljava/lang/String;-><init>([BLjava/nio/charset/Charset;)V
    iget-object v2, p0, Ltessellant/keyboard/Ear;->keyboard:Ltessellant/keyboard/Keyboard;
    invoke-virtual {v2}, Ltessellant/keyboard/Keyboard;->getCurrentInputConnection()Landroid/view/inputmethod/InputConnection;
    move-result-object v2
    const/4 v3, 0x2
    if-eqz v2, :say
    const/4 v4, 0x1
    invoke-interface {v2, v1, v4}, Landroid/view/inputmethod/InputConnection;->commitText(Ljava/lang/CharSequence;I)Z
    move-result v4
    if-eqz v4, :say
    const/4 v3, 0x1
    :say
    invoke-virtual {p0, v3}, Ltessellant/keyboard/Ear;->setResultCode(I)V
    :done
    return-void
.end method
