"""The display on the quay, a window of Tk: `python -m quay_display`."""

import signal
import tkinter


def main():
    signal.signal(signal.SIGINT, signal.SIG_DFL)  # Tk would not look at it before the next event
    window = tkinter.Tk()
    window.title("Quay display")
    window.geometry("640x360")
    window.configure(background="#10222e")
    for text, size in (("Saltmarsh Ferries", 24), ("07:40  Heron Quay", 40), ("berth 2 · Spoonbill", 20)):
        label = tkinter.Label(window, text=text, font=("DejaVu Sans", size), foreground="#f3ead7", background="#10222e")
        label.pack(pady=18)
    print("the display is lit", flush=True)
    window.mainloop()


main()
