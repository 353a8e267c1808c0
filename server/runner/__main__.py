from server.runner.cli import app

app(prog_name="oculum")
