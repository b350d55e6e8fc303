<script setup lang="ts">
import { BarController, BarElement, CategoryScale, Chart, LinearScale, Tooltip, type Plugin } from 'chart.js'
import { onBeforeUnmount, onMounted, useTemplateRef, watch } from 'vue'

import { count } from '../format'
import { dark } from '../theme'

// What the loads of some days brought, as stacked bars. The table with the same
// figures is for who hears the page, and for who has no room for bars.
interface Day {
  day: string
  loads: number
  loaded: number
  changed: number
  failed: number
}
const props = defineProps<{ days: Day[] }>()
const canvas = useTemplateRef<HTMLCanvasElement>('canvas')
let chart: Chart<'bar', number[], string[]> | undefined

Chart.register(BarController, BarElement, CategoryScale, LinearScale, Tooltip)

const series = [
  { key: 'loaded', colour: '--good' },
  { key: 'changed', colour: '--accent' },
  { key: 'failed', colour: '--error' },
] as const
const dayName = (iso: string) =>
  new Date(iso + 'T00:00:00Z').toLocaleDateString('en', { weekday: 'short', timeZone: 'UTC' })

function draw() {
  if (!canvas.value) return
  const style = getComputedStyle(canvas.value)
  const colour = (name: string) => style.getPropertyValue(name).trim()
  const font = { family: style.fontFamily, size: 11.5 }
  // Above each column how many went in, and behind it in red how many did not.
  const figures: Plugin<'bar'> = {
    id: 'figures',
    afterDatasetsDraw(drawn) {
      const { ctx, chartArea, scales } = drawn
      ctx.save()
      ctx.font = `${font.size}px ${font.family}`
      ctx.textBaseline = 'bottom'
      props.days.forEach((d, i) => {
        const at = drawn.getDatasetMeta(0).data[i]
        if (!d.loads || !at) return
        const good = (d.loaded + d.changed).toLocaleString('en')
        const bad = d.failed ? ` ${d.failed.toLocaleString('en')} ✕` : ''
        const y = Math.max(scales.y!.getPixelForValue(d.loaded + d.changed + d.failed) - 2, chartArea.top + font.size)
        let x = Math.min(
          at.x - ctx.measureText(good + bad).width / 2,
          chartArea.right - ctx.measureText(good + bad).width,
        )
        for (const [text, name] of [
          [good, '--ink'],
          [bad, '--error'],
        ] as const) {
          ctx.fillStyle = colour(name)
          ctx.fillText(text, x, y)
          x += ctx.measureText(text).width
        }
      })
      ctx.restore()
    },
  }
  chart?.destroy()
  chart = new Chart(canvas.value, {
    type: 'bar',
    plugins: [figures],
    data: {
      labels: props.days.map((d) => [dayName(d.day), d.day.slice(5)]),
      datasets: series.map((s) => ({
        label: s.key,
        data: props.days.map((d) => d[s.key]),
        backgroundColor: colour(s.colour),
        maxBarThickness: 56,
      })),
    },
    options: {
      animation: false,
      maintainAspectRatio: false,
      scales: {
        x: {
          stacked: true,
          grid: { display: false },
          border: { color: colour('--rule') },
          ticks: { color: colour('--ink-soft'), font, maxRotation: 0 },
        },
        y: {
          stacked: true,
          beginAtZero: true,
          grace: '12%',
          border: { display: false },
          grid: { color: colour('--rule-soft') },
          ticks: { color: colour('--ink-soft'), font, precision: 0, maxTicksLimit: 5 },
        },
      },
      plugins: {
        tooltip: {
          mode: 'index',
          intersect: false,
          callbacks: {
            footer: (items) => (items[0] ? `in ${count(props.days[items[0].dataIndex]!.loads, 'load')}` : ''),
          },
        },
      },
    },
  })
}

onMounted(draw)
watch([() => props.days, dark], draw, { flush: 'post' })
onBeforeUnmount(() => chart?.destroy())
</script>

<template>
  <div class="days">
    <canvas ref="canvas" aria-hidden="true" />
    <table class="heard" aria-label="Orders loaded, changed and failed by day">
      <thead>
        <tr>
          <th scope="col">Day</th>
          <th scope="col">Loads</th>
          <th v-for="s in series" :key="s.key" scope="col">{{ s.key }}</th>
        </tr>
      </thead>
      <tbody>
        <tr v-for="d in days" :key="d.day">
          <th scope="row">{{ d.day }}</th>
          <td>{{ d.loads }}</td>
          <td v-for="s in series" :key="s.key">{{ d[s.key] }}</td>
        </tr>
      </tbody>
    </table>
  </div>
</template>

<style scoped>
.days {
  position: relative;
  height: 210px;
  margin-top: 6px;
}
.heard {
  position: absolute;
  top: 0;
  width: 1px;
  height: 1px;
  overflow: hidden;
  clip-path: inset(50%);
  white-space: nowrap;
}
</style>
