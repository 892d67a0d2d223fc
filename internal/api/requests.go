package api

import (
	"context"
	"log/slog"
	"net/http"
	"regexp"

	"github.com/labstack/echo/v5"
	"github.com/labstack/echo/v5/middleware"
)

// plainID is a request's id as a proxy may have given it: nothing that breaks a line of a log.
var plainID = regexp.MustCompile(`^[A-Za-z0-9._-]{8,64}$`)

// named gives every request an id, which the answer bears as X-Request-Id and every line of the
// log about it has; a proxy's is kept.
func named() []echo.MiddlewareFunc {
	return []echo.MiddlewareFunc{
		func(next echo.HandlerFunc) echo.HandlerFunc {
			return func(c *echo.Context) error {
				if h := c.Request().Header; !plainID.MatchString(h.Get(echo.HeaderXRequestID)) {
					h.Del(echo.HeaderXRequestID)
				}
				return next(c)
			}
		},
		middleware.RequestID(),
		middleware.RequestLoggerWithConfig(middleware.RequestLoggerConfig{
			LogStatus: true, LogLatency: true, LogMethod: true, LogRoutePath: true, LogResponseSize: true, LogRequestID: true,
			LogValuesFunc: func(c *echo.Context, v middleware.RequestLoggerValues) error {
				level := slog.LevelInfo
				if sent, _ := echo.UnwrapResponse(c.Response()); v.Error != nil && (sent == nil || !sent.Committed) {
					// It is told behind this. What has been sent already is what was answered.
					v.Status, _ = toProblem(v.Error)
				}
				if v.Status >= http.StatusInternalServerError {
					level = slog.LevelWarn // the fault itself has a line of its own
				}
				// The route, not the address: addresses of forms, feeds and links are secrets.
				slog.LogAttrs(context.WithoutCancel(c.Request().Context()), level, "request", slog.String("id", v.RequestID),
					slog.String("method", v.Method),
					slog.String("route", v.RoutePath), slog.Int("status", v.Status), slog.Duration("took", v.Latency),
					slog.Int64("bytes", v.ResponseSize))
				return nil
			},
		}),
	}
}

// requestID is the id of the request that a context serves.
func requestID(c *echo.Context) string { return c.Response().Header().Get(echo.HeaderXRequestID) }
