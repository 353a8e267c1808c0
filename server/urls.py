"""The API, at /api/v1/."""

from django.urls import path
from drf_spectacular.views import SpectacularAPIView, SpectacularSwaggerSplitView
from rest_framework.permissions import AllowAny

from server.access import api as access
from server.access import errors
from server.alarms import api as alarms
from server.definitions import api as definitions
from server.definitions import running, trying
from server.fleet import api as fleet
from server.fleet import constants
from server.history import api as history
from server.intake import api as intake

V1 = [
    ("sign-in", access.SignInView),
    ("sign-out", access.SignOutView),
    ("me", access.MeView),
    ("people", access.PeopleView),
    ("people/<int:pk>", access.PersonView),
    ("tokens", access.TokensView),
    ("tokens/<int:pk>", access.TokenView),
    ("record", access.RecordView),
    ("overview", history.OverviewView),
    ("lookback", history.LookbackView),
    ("sites", fleet.SitesView),
    ("sites/<str:name>", fleet.SiteView),
    ("types", fleet.TypesView),
    ("types/<str:key>", fleet.TypeView),
    ("types/<str:key>/setpoints/<str:name>", fleet.TypeSetpointView),
    ("types/<str:key>/decode-again", definitions.DecodeAgainView),
    ("types/<str:key>/decode-again/preview", trying.AgainPreviewView),
    ("devices", fleet.DevicesView),
    ("devices/<str:name>", fleet.DeviceView),
    ("devices/<str:name>/key", fleet.DeviceKeyView),
    ("devices/<str:name>/constants", constants.ConstantsView),
    ("devices/<str:name>/constants/<int:ident>", constants.ConstantView),
    ("devices/<str:name>/series", history.SeriesView),
    ("arrivals", intake.ArrivalsView),
    ("arrivals/<int:ident>", intake.ArrivalView),
    ("unknown-senders", intake.UnknownSendersView),
    ("unknown-senders/<int:ident>/adopt", intake.AdoptView),
    ("onboarding", intake.OnboardingView),
    ("refusals", intake.RefusalsView),
    ("language", definitions.LanguageView),
    ("check", definitions.CheckView),
    ("format", definitions.FormatView),
    ("form", definitions.FormView),
    ("decode", definitions.DecodeView),
    ("decode/curves", trying.CurvesView),
    ("guess", trying.GuessView),
    ("from-table", trying.FromTableView),
    ("definitions", definitions.DefinitionsView),
    ("definitions/<int:ident>", definitions.DefinitionView),
    ("definitions/<int:ident>/versions", definitions.VersionsView),
    ("definitions/<int:ident>/trial", definitions.TrialView),
    ("definitions/<int:ident>/trial/progress", trying.TrialProgressView),
    ("definitions/<int:ident>/cases", trying.CasesView),
    ("definitions/<int:ident>/cases/run", trying.RunCasesView),
    ("definitions/<int:ident>/cases/<int:case>", trying.CaseView),
    ("definitions/<int:ident>/effect", trying.EffectView),
    ("definitions/<int:ident>/in-force", trying.InForceView),
    ("definitions/<int:ident>/publish", definitions.PublishView),
    ("definitions/<int:ident>/rollout", running.RolloutView),
    ("definitions/<int:ident>/chosen", running.ChosenView),
    ("definitions/<int:ident>/runs", running.RunsView),
    ("definitions/<int:ident>/failing", running.FailingView),
    ("devices/<str:name>/hold", running.HoldView),
    ("definitions/<int:ident>/retire", definitions.RetireView),
    ("alarms", alarms.AlarmsView),
    ("alarms/summary", alarms.SummaryView),
    ("alarms/<int:ident>", alarms.AlarmView),
    ("alarms/<int:ident>/acknowledge", alarms.AcknowledgeView),
    ("alarms/<int:ident>/note", alarms.NoteView),
    ("journal", alarms.JournalView),
    ("why/reading", history.WhyReadingView),
    ("why/alarm/<int:ident>", history.WhyAlarmView),
]

handler400, handler403 = errors.bad, errors.forbidden
handler404, handler500 = errors.not_found, errors.failed

urlpatterns = [path(f"api/v1/{route}", view.as_view()) for route, view in V1] + [
    path("api/v1/schema", SpectacularAPIView.as_view(permission_classes=[AllowAny]), name="schema"),
    path("api/v1/docs", SpectacularSwaggerSplitView.as_view(url_name="schema", permission_classes=[AllowAny])),
]
