package apis

import (
	"github.com/gin-gonic/gin"

	"hollowreed/internal/core/fault"
	"hollowreed/internal/store"
)

// call sends a call to the release and shows what comes back, held against the contract.
func (b pages) call(c *gin.Context) error {
	_, d, err := b.apiOf(c)
	if err != nil {
		return err
	}
	if d.Call == nil {
		return store.ErrNotFound
	}
	d.Call.Fill(c.GetPostForm)
	d.Call.Show(d.Address, d.API, d.Chosen.Operation)
	if d.Call.Sent, err = d.Call.Send(c, d.Address, d.API, d.Chosen.Operation, c.PostForm("last")); err != nil {
		d.Call.Failed = fault.From(err, fault.Setting).What()
	}
	apiView.Part(c, "call", d)
	return nil
}
