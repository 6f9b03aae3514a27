package access

import (
	"crypto/hmac"
	"crypto/sha256"
	"encoding/base64"
	"encoding/json"
	"strings"
	"time"
)

// Link is what a link to a question is good for. It opens that question and nothing
// else, and once: a question is answered once.
type Link struct {
	Run     string    `json:"run"`
	Task    string    `json:"task"`
	Attempt int       `json:"attempt"`
	Person  string    `json:"person"` // in whose name it answers
	Expires time.Time `json:"expires"`
}

// SignLink makes the code of a link, signed with a key that hangs on the token.
func (g *Gate) SignLink(l Link) string {
	text, err := json.Marshal(l)
	if err != nil {
		panic("a link is plain data: " + err.Error())
	}
	code := base64.RawURLEncoding.EncodeToString(text)
	return code + "." + base64.RawURLEncoding.EncodeToString(g.signature(code))
}

// ReadLink checks the code of a link.
func (g *Gate) ReadLink(text string) (l Link, err error) {
	code, signed, _ := strings.Cut(text, ".")
	signature, err := base64.RawURLEncoding.DecodeString(signed)
	if err != nil || !hmac.Equal(signature, g.signature(code)) {
		return l, ErrDenied
	}
	plain, err := base64.RawURLEncoding.DecodeString(code)
	if err != nil || json.Unmarshal(plain, &l) != nil || g.now().After(l.Expires) {
		return l, ErrDenied
	}
	return l, nil
}

func (g *Gate) signature(code string) []byte {
	key := sha256.Sum256([]byte("links to questions\n" + g.token))
	mac := hmac.New(sha256.New, key[:])
	mac.Write([]byte(code))
	return mac.Sum(nil)
}
