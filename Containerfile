# An image with the program alone:  podman build -t imbrel .  &&  podman run --rm imbrel demo
FROM docker.io/library/golang:1.26 AS build
COPY . /src
WORKDIR /src
RUN CGO_ENABLED=0 go build -trimpath -ldflags "-s -w" -o /imbrel ./cmd/imbrel

FROM scratch
COPY --from=build /imbrel /imbrel
ENTRYPOINT ["/imbrel"]
