"""The invented Sedge Archive: a catalogue of letters, kept in Django's own administration.

Run as: site.py DIRECTORY PORT. Nothing leaves the loopback address.
"""

import sys
import types
from pathlib import Path

home, port = Path(sys.argv[1]), sys.argv[2]

from django.conf import settings

settings.configure(
    DEBUG=False,
    SECRET_KEY="invented, and used on loopback only",
    ALLOWED_HOSTS=["*"],
    ROOT_URLCONF="sedge",
    USE_TZ=True,
    STATIC_URL="/static/",
    DEFAULT_AUTO_FIELD="django.db.models.AutoField",
    INSTALLED_APPS=["django.contrib.admin", "django.contrib.auth", "django.contrib.contenttypes", "django.contrib.sessions", "django.contrib.messages", "django.contrib.staticfiles", "sedge"],
    MIDDLEWARE=["django.contrib.sessions.middleware.SessionMiddleware", "django.middleware.common.CommonMiddleware", "django.middleware.csrf.CsrfViewMiddleware",
                "django.contrib.auth.middleware.AuthenticationMiddleware", "django.contrib.messages.middleware.MessageMiddleware"],
    TEMPLATES=[{"BACKEND": "django.template.backends.django.DjangoTemplates", "APP_DIRS": True,
                "OPTIONS": {"context_processors": ["django.template.context_processors.request", "django.contrib.auth.context_processors.auth", "django.contrib.messages.context_processors.messages"]}}],
    DATABASES={"default": {"ENGINE": "django.db.backends.sqlite3", "NAME": str(home / "sedge.sqlite3"), "OPTIONS": {"timeout": 20}}},
    PASSWORD_HASHERS=["django.contrib.auth.hashers.MD5PasswordHasher"],  # made-up passwords; it signs in at once
)

# One file holds the application; the framework wants it to be a module with a place.
module = types.ModuleType("sedge")
module.__file__ = str(home / "sedge" / "__init__.py")
module.__path__ = [str(home / "sedge")]
(home / "sedge").mkdir(exist_ok=True)
sys.modules["sedge"] = module

import django

django.setup()

from django.contrib import admin
from django.contrib.staticfiles.handlers import StaticFilesHandler
from django.core.management import call_command
from django.core.wsgi import get_wsgi_application
from django.db import models
from django.http import HttpResponse
from django.shortcuts import get_object_or_404
from django.template import engines
from django.urls import path


class Letter(models.Model):
    title = models.CharField(max_length=120)
    slug = models.SlugField(max_length=120)
    year = models.IntegerField()
    text = models.TextField(blank=True)

    class Meta:
        app_label = "sedge"
        ordering = ["year", "id"]

    def __str__(self):
        return self.title


@admin.register(Letter)
class LetterAdmin(admin.ModelAdmin):
    list_display = ["title", "year"]
    list_filter = ["year"]
    search_fields = ["title"]
    prepopulated_fields = {"slug": ["title"]}


STYLE = """body { margin: 0 auto; max-width: 60rem; padding: 0 1.2rem; font: 17px/1.6 "DejaVu Serif", serif; color: #26323a; background: #f4f6f2; }
h1 { font-size: 1.6rem; color: #3a5a40; } a { color: #2f5d50; } .letters { columns: 2; padding: 0; list-style: none; }
figure { margin: 1rem 0; } figure img { display: block; width: 320px; height: 200px; background: #e3e8dc; } figcaption { font-size: .85rem; } .views { display: grid; grid-template-columns: repeat(auto-fill, minmax(320px, 1fr)); gap: 0 1rem; }
.find { padding: .8rem; background: #dfe7da; } .find input { font: inherit; padding: .2rem; } footer { margin-top: 2rem; padding: 1rem 0; border-top: 1px solid #b8c4b0; font-size: .85rem; }"""

PAGE = engines["django"].from_string("""<!doctype html><html lang="en"><head><meta charset="utf-8"><meta name="viewport" content="width=device-width, initial-scale=1">
<title>{{ title }} · Sedge Archive</title><link rel="stylesheet" href="/static/sedge.css"></head><body>
<header><p><a href="/">Sedge Archive</a></p><form class="find" action="/find"><label>Find a letter <input name="q" value="{{ q }}"></label> <button>Find</button></form></header>
<main><h1>{{ title }}</h1>{% if text %}<p>{{ text }}</p>{% endif %}
{% if letters is not None %}<ul class="letters">{% for l in letters %}<li><a href="/letters/{{ l.slug }}">{{ l.title }}</a>, {{ l.year }}</li>{% empty %}<li>None.</li>{% endfor %}</ul>{% endif %}
{% if views %}<h2>Views of the fen</h2><div class="views">{% for v in views %}<figure><img data-src="/static/views/{{ v }}.svg" width="320" height="200" alt="The fen, view {{ v }}"><figcaption>View {{ v }}</figcaption></figure>{% endfor %}</div>{% endif %}</main>
<footer>{{ count }} letters, kept by hand. An invented place. <a href="/admin/">Keepers</a></footer><script src="/static/sedge.js"></script></body></html>""")

# Pictures are loaded once they are near what is visible: no address stands where a browser would load it by itself.
SCRIPT = """const near = new IntersectionObserver((list) => list.forEach((e) => {
  if (!e.isIntersecting) return;
  near.unobserve(e.target);
  e.target.src = e.target.dataset.src;
}), { rootMargin: "200px" });
document.querySelectorAll("img[data-src]").forEach((i) => near.observe(i));
"""


def page(**said):
    return HttpResponse(PAGE.render({"count": Letter.objects.count(), "q": "", "letters": None, "views": None, **said}))


def home_page(request):
    return page(title="Letters from the fen", letters=Letter.objects.filter(id__lte=24), views=range(1, 9))


def find(request):
    q = request.GET.get("q", "")
    return page(title="Letters with “%s”" % q, q=q, letters=Letter.objects.filter(title__icontains=q, id__lte=24))


def letter(request, slug):
    l = get_object_or_404(Letter, slug=slug)
    return page(title=l.title, text=l.text, views=range(1, 5))


def script(request):
    return HttpResponse(SCRIPT, content_type="text/javascript")


def view(request, number):
    reeds = "".join('<path d="M%d 200 q %d -%d 0 -%d" fill="none" stroke="#%02x7a4a" stroke-width="4"/>' % (12 + 28 * i, (i * number) % 17 - 8, 40 + 7 * ((i + number) % 5), 60 + 11 * ((i * number) % 9), 40 + 13 * number) for i in range(11))
    return HttpResponse('<svg xmlns="http://www.w3.org/2000/svg" width="320" height="200"><rect width="320" height="200" fill="#cfd8d2"/><circle cx="%d" cy="50" r="26" fill="#e8d49a"/>%s</svg>' % (40 + 30 * number, reeds), content_type="image/svg+xml")


def style(request):
    return HttpResponse(STYLE, content_type="text/css")


module.urlpatterns = [path("", home_page), path("find", find), path("letters/<slug:slug>", letter), path("static/sedge.css", style), path("static/sedge.js", script), path("static/views/<int:number>.svg", view), path("admin/", admin.site.urls)]

call_command("migrate", verbosity=0)

from django.contrib.auth.models import User
from django.db import connection

with connection.schema_editor() as tables:
    tables.create_model(Letter)

User.objects.create_superuser("keeper", "keeper@example.org", "reeds in rows", first_name="Morag Sedge")
for n, subject in enumerate(["eels", "floods", "a new sluice", "reed prices", "the ferry", "peat"] * 4):
    Letter.objects.create(title="Of %s, the %d%s" % (subject, n + 1, {1: "st", 2: "nd", 3: "rd"}.get(n + 1, "th")), slug="of-%d" % (n + 1), year=1850 + 3 * n, text="They write of %s, and ask for an answer before the frost." % subject)

from socketserver import ThreadingMixIn
from wsgiref.simple_server import WSGIRequestHandler, WSGIServer, make_server


class Server(ThreadingMixIn, WSGIServer):
    daemon_threads = True


class Quiet(WSGIRequestHandler):
    def log_message(self, *args):
        pass


class Handler(StaticFilesHandler):
    """Serves the administration's files, and leaves the archive's own style to its view."""

    def _should_handle(self, path):
        return path.startswith("/static/admin/")

    def serve(self, request):
        from django.contrib.staticfiles.views import serve

        return serve(request, self.file_path(request.path), insecure=True)


server = make_server("127.0.0.1", int(port), Handler(get_wsgi_application()), server_class=Server, handler_class=Quiet)
print("ready", server.server_port, flush=True)
server.serve_forever()
