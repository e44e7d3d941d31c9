"""Steps a program through `sotto step --json`: python3 client.py SOTTO FILE

Sends requests, one a line, and reads the answers of each up to its end. Needs the standard library only.
"""

import json
import subprocess
import sys


class Session:
    def __init__(self, sotto, file):
        command = [sotto, "step", file, "--json"]
        self.process = subprocess.Popen(
            command, stdin=subprocess.PIPE, stdout=subprocess.PIPE, text=True
        )
        self.last_id = 0
        self.first = json.loads(self.process.stdout.readline())
        self.at = json.loads(self.process.stdout.readline())

    def ask(self, command):
        """The answers to a command; an error is an exception."""
        self.last_id += 1
        request = {"id": self.last_id, "command": command}
        self.process.stdin.write(json.dumps(request) + "\n")
        self.process.stdin.flush()
        answers = []
        for line in self.process.stdout:
            answer = json.loads(line)
            if answer.get("id") != self.last_id:
                continue
            if answer["answer"] == "error":
                raise RuntimeError(answer["message"])
            if answer["answer"] == "end":
                return answers
            answers.append(answer)
        raise RuntimeError("the session ended")

    def first_of(self, command, tag):
        """The first answer to a command that has this tag."""
        return next(a for a in self.ask(command) if a["answer"] == tag)


def main(sotto, file):
    session = Session(sotto, file)
    print(session.first["program"], session.first["machine"])

    for step in session.ask("step 2"):
        if step["answer"] == "step":
            changes = [f"{r['name']} = {r['new']}" for r in step["registers"]]
            print(step["moment"], step["instruction"], *changes, sep="  ")

    session.ask("break at .bit when ebx == 2")
    stopped = session.first_of("resume", "stopped")
    print(stopped["reason"], stopped["number"], "at moment", stopped["moment"])

    stack = session.first_of("stack 3", "stack")
    for slot in stack["slots"]:
        print(slot["address"], slot["value"], slot["role"])

    try:
        session.ask("until nowhere")
    except RuntimeError as error:
        print("refused:", error)


if __name__ == "__main__":
    main(*sys.argv[1:])
